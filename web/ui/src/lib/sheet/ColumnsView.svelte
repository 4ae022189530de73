<script lang="ts">
  import type { Snippet } from 'svelte';

  import type { Column, Profile } from '../api/client';
  import { count } from '../format';
  import { share, shapes } from './profile';

  /** The columns that come out of a step, and what they hold in the trial's rows. */
  let {
    columns,
    profile,
    about,
  }: {
    columns: Column[];
    profile: Profile[];
    /** What else is said of the chosen column. */
    about?: Snippet<[Column]>;
  } = $props();

  let chosen = $state('');
  const of = (name: string) => profile.find((p) => p.name === name);
  const numeric = (t: string) => /^(int|decimal|float)/.test(t);
</script>

<div class="scroll">
  <table class="lines">
    <thead>
      <tr>
        <th>column</th><th>type</th><th class="r">null</th><th class="r">different</th><th>from least to greatest</th>
        <th>most frequent</th>
      </tr>
    </thead>
    <tbody>
      {#each columns as c (c.name)}
        {@const p = of(c.name)}
        <tr class:on={chosen === c.name}>
          <td>
            <button
              class="plain name"
              aria-expanded={chosen === c.name}
              onclick={() => (chosen = chosen === c.name ? '' : c.name)}><code>{c.name}</code></button
            >
            {#if c.personal}<span class="note">personal</span>{/if}
            {#if c.from || c.description}<span class="note from">{c.from ?? ''} {c.description ?? ''}</span>{/if}
          </td>
          <td>{c.type}</td>
          <td class="num r" class:zero={!p?.nulls}>{p ? share(p.nulls, p.rows) : ''}</td>
          <td class="num r">{p ? count(p.distinct) : ''}</td>
          <td class="data ends" title={p?.min !== undefined ? `${p.min} … ${p.max}` : undefined}>
            {#if p?.histogram?.length}{@render bars(p)}{/if}{#if p?.min !== undefined}{p.min} … {p.max}{/if}
          </td>
          <td class="data often"
            >{(p?.frequent ?? [])
              .slice(0, 3)
              .map((v) => `${v.text} ${share(v.rows, p!.rows)}`)
              .join('; ')}</td
          >
        </tr>
        {#if chosen === c.name && (p || about)}
          <tr class="on more">
            <td colspan="6">
              {#if about}<p>{@render about(c)}</p>{/if}
              {#if p}{@render more(c, p)}{/if}
            </td>
          </tr>
        {/if}
      {/each}
    </tbody>
  </table>
  {#if profile.length}<p class="note sec">
      Over {count(profile[0]?.rows)} rows. Different values are estimated to about 1 % where there are many. A column's name
      shows more of it.
    </p>{/if}
</div>

{#snippet more(c: Column, p: Profile)}
  <dl>
    {#if p.quantiles?.length}
      <div>
        <dt>below which a share of the rows lies</dt>
        <dd>
          {#each p.quantiles as q (q.share)}<span
              ><span class="note">{Math.round(q.share * 100)} %</span>
              <span class="num">{numeric(c.type) ? Number(q.value.toPrecision(6)) : q.value}</span></span
            >{/each}
        </dd>
      </div>
    {/if}
    <div>
      <dt>frequent values</dt>
      <dd>
        {#each (p.frequent ?? []).slice(0, 12) as v (v.text)}<span
            ><span class="data">{v.text === '' ? '(empty)' : v.text}</span>
            <span class="num note">{count(v.rows)}</span></span
          >{:else}<span class="note">none</span>{/each}
      </dd>
    </div>
    {#if shapes(p).length}
      <div>
        <dt>shapes: x a letter, X a large one, 9 a digit</dt>
        <dd>
          {#each shapes(p) as v (v.text)}<span
              ><span class="data">{v.text}</span> <span class="num note">{count(v.rows)}</span></span
            >{/each}
        </dd>
      </div>
    {/if}
    {#if p.longest}<div>
        <dt>length</dt>
        <dd>
          <span>{p.shortest} to {p.longest} characters, {p.mean_length?.toFixed(1)} on average</span>{#if p.empty}<span
              >{count(p.empty)} empty</span
            >{/if}
        </dd>
      </div>{/if}
  </dl>
{/snippet}

{#snippet bars(p: Profile)}
  {@const most = Math.max(...(p.histogram ?? []).map((b) => b.rows), 1)}
  <svg width="52" height="16" role="img" aria-label="distribution of {p.name}">
    {#each p.histogram ?? [] as b, i (i)}
      <rect
        x={i * 5.2}
        y={15 - (14 * b.rows) / most}
        width="4.2"
        height={(14 * b.rows) / most + 0.5}
        fill="var(--soft)"
      >
        <title>{Number(b.from.toPrecision(5))} to {Number(b.to.toPrecision(5))}: {count(b.rows)} rows</title>
      </rect>
    {/each}
  </svg>
{/snippet}

<style>
  table {
    table-layout: fixed;
    width: 100%;
  }
  td,
  th {
    padding-left: 8px;
    padding-right: 8px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  th:nth-child(2) {
    width: 92px;
  }
  th:nth-child(3) {
    width: 54px;
  }
  th:nth-child(4) {
    width: 72px;
  }
  th:nth-child(5) {
    width: 29%;
  }
  th:nth-child(6) {
    width: 22%;
  }
  .r {
    text-align: right;
  }
  .name {
    padding: 0;
    text-align: left;
  }
  .from {
    display: block;
    font-size: 12px;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .ends,
  .often {
    font-size: 11.5px;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .ends svg {
    vertical-align: -3px;
    margin-right: 7px;
  }
  .zero {
    color: var(--faint);
  }
  tr.on td {
    background: var(--sunk);
  }
  dl {
    margin: 2px 0 4px;
    display: grid;
    gap: 6px;
  }
  dt {
    color: var(--soft);
    font-size: 12px;
  }
  dd {
    margin: 0;
    display: flex;
    flex-wrap: wrap;
    gap: 2px 16px;
    font-size: 12.5px;
  }
</style>
