<script lang="ts">
  import type { Column } from '../api/client';

  /** Rows as a table: figures to the right, nulls faint, what a step changed
   * marked. Rows are drawn as they come into view. */
  let {
    columns,
    rows,
    changed,
    edit,
    remove,
    label,
  }: {
    columns: Column[];
    rows: (string | null)[][];
    changed?: (row: number, column: number) => boolean;
    /** Takes an edited cell; with it the cells can be typed into. */
    edit?: (row: number, column: number, value: string | null) => void;
    remove?: (row: number) => void;
    label: string;
  } = $props();

  const height = 25;
  let top = $state(0);
  let tall = $state(400);
  const first = $derived(Math.max(0, Math.floor(top / height) - 10));
  const last = $derived(Math.min(rows.length, Math.ceil((top + tall) / height) + 10));
  const right = (c: Column) => /^(int|decimal|float)/.test(c.type);
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div
  class="scroll"
  tabindex="0"
  role="region"
  aria-label={label}
  bind:clientHeight={tall}
  onscroll={(e) => (top = e.currentTarget.scrollTop)}
>
  <table class="rows" aria-rowcount={rows.length}>
    <thead>
      <tr>
        {#each columns as c (c.name)}
          <th class:r={right(c)} title={c.description || c.from}>{c.name}<small>{c.type}</small></th>
        {/each}
        {#if remove}<th></th>{/if}
      </tr>
    </thead>
    <tbody>
      {#if first > 0}<tr aria-hidden="true" style:height="{first * height}px"></tr>{/if}
      {#each rows.slice(first, last) as row, i (first + i)}
        <tr style:height="{height}px">
          {#each columns as c, k (c.name)}
            {@const v = row[k]}
            <td class:r={right(c)} class:new={changed?.(first + i, k)} title={v && v.length > 40 ? v : undefined}>
              {#if edit}<input
                  value={v ?? ''}
                  placeholder="∅"
                  aria-label="{c.name}, row {first + i + 1}"
                  class:r={right(c)}
                  onchange={(e) => edit(first + i, k, e.currentTarget.value === '' ? null : e.currentTarget.value)}
                />{:else if v === null || v === undefined}<span class="null">∅</span>{:else}{v.replace(
                  /\r?\n/g,
                  ' ⏎ ',
                )}{/if}
            </td>
          {/each}
          {#if remove}<td
              ><button class="plain" aria-label="Remove row {first + i + 1}" onclick={() => remove(first + i)}>×</button
              ></td
            >{/if}
        </tr>
      {/each}
      {#if last < rows.length}<tr aria-hidden="true" style:height="{(rows.length - last) * height}px"></tr>{/if}
    </tbody>
  </table>
  {#if rows.length === 0}<p class="none">No rows.</p>{/if}
</div>

<style>
  table {
    border-collapse: collapse;
    min-width: 100%;
    font: 12px var(--data);
  }
  th {
    font: 600 12.5px var(--text);
    text-align: left;
    padding: 5px 10px 3px;
    border-bottom: 1px solid var(--rule2);
    vertical-align: bottom;
    white-space: nowrap;
    position: sticky;
    top: 0;
    background: var(--raised);
    z-index: 1;
  }
  th small {
    display: block;
    font: 400 11.5px var(--text);
    color: var(--soft);
  }
  td {
    padding: 0 10px;
    border-bottom: 1px solid var(--rule);
    white-space: pre;
    max-width: 260px;
    overflow: hidden;
    text-overflow: ellipsis;
    line-height: 18px;
    height: 24px;
  }
  .r {
    text-align: right;
  }
  td.new {
    background: var(--act-bg);
  }
  .null,
  input::placeholder {
    color: var(--faint);
  }
  td input {
    font: inherit;
    color: inherit;
    background: none;
    border: 0;
    border-bottom: 1px dotted var(--rule2);
    field-sizing: content;
    min-width: 100%;
    padding: 0;
  }
  .none {
    padding: 14px 18px;
    color: var(--soft);
  }
</style>
