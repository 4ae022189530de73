<script lang="ts">
  import type { Editor } from './editor.svelte';
  import { differences, fateWords } from './way';

  /** One row's way through the sheet: what each step made of it. */
  let { editor, select }: { editor: Editor; select: (step: string) => void } = $props();

  const way = $derived(editor.followed?.passed ?? []);
  const first = $derived(way[0]?.after?.[0]);
  const from = $derived(editor.followed?.origin.replace(/·([^·]*)$/, ', row $1') ?? '');
  const text = (v: string | null | undefined) => (v === null || v === undefined ? '∅' : v);
</script>

<div class="scroll">
  <div class="sec title">
    <h2>The way of one row</h2>
    <span class="note">{from}</span>
    <button class="plain" onclick={() => (editor.followed = undefined)}>Close <kbd>Esc</kbd></button>
  </div>
  {#if way.length === 0}
    <p class="sec note">
      No step of the sample reaches it: the sheet has changed, or it lies behind the rows a trial reads.
    </p>
  {/if}
  {#if first?.rows?.[0]}
    <dl class="sec cells">
      {#each first.columns ?? [] as c, k (c.name)}
        <div>
          <dt>{c.name}</dt>
          <dd class="data" class:null={first.rows[0]![k] === null}>{text(first.rows[0]![k])}</dd>
        </div>
      {/each}
    </dl>
  {/if}
  <ol>
    {#each way as p (p.step)}
      <li class:lost={p.fate === 'dropped'} class:aside={p.fate === 'set aside'}>
        <div class="at">
          <button class="plain name" onclick={() => select(p.step)}>{p.step}</button>
          <span class="fate">{fateWords(p)}</span>
        </div>
        {#if p.set_aside}<p class="why">{p.set_aside}</p>{/if}
        {#if p.fate === 'changed' || p.fate === 'several'}
          {#each (p.after ?? []).filter((b) => b.total > 0) as b (b.name)}
            {#each (b.rows ?? []).slice(0, 5).keys() as i (i)}
              {@const differ = differences(p.before?.[0], b, i)}
              <p class="data">
                {#if (b.rows ?? []).length > 1}<span class="note">row {i + 1}{b.name ? ` in ${b.name}` : ''}:</span
                  >{/if}
                {#each differ as d (d.column)}
                  <span class="diff"
                    ><span class="note">{d.column}</span>
                    {#if d.was !== undefined}<s>{text(d.was)}</s>{/if}
                    {#if d.is !== undefined}<b>{text(d.is)}</b>{:else}<span class="note">gone</span>{/if}</span
                  >
                {:else}<span class="note">the same</span>{/each}
              </p>
            {/each}
          {/each}
        {/if}
      </li>
    {/each}
  </ol>
</div>

<style>
  .title {
    display: flex;
    gap: 14px;
    align-items: baseline;
  }
  h2 {
    font: 650 17px/1.2 var(--title);
    margin: 0;
  }
  .title .plain {
    margin-left: auto;
  }
  .cells {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 20px;
    margin: 0;
    padding-top: 0;
    font-size: 12.5px;
  }
  .cells div {
    display: flex;
    gap: 6px;
    align-items: baseline;
    max-width: 100%;
  }
  dt {
    color: var(--soft);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .null {
    color: var(--faint);
  }
  ol {
    list-style: none;
    margin: 6px 0 20px;
    padding: 0 18px;
  }
  li {
    border-top: 1px solid var(--rule);
    padding: 7px 0 7px 14px;
    border-left: 2px solid var(--act);
  }
  li.lost,
  li.lost ~ li {
    border-left-color: var(--rule2);
  }
  li.aside {
    border-left-color: var(--as);
  }
  .at {
    display: flex;
    gap: 14px;
    align-items: baseline;
    font-size: 13.5px;
  }
  .name {
    font-weight: 650;
  }
  .fate {
    color: var(--soft);
  }
  li.aside .fate {
    color: var(--as);
  }
  p {
    margin: 4px 0 0;
    font-size: 12.5px;
  }
  .diff {
    display: inline-flex;
    gap: 6px;
    margin-right: 16px;
    align-items: baseline;
  }
  .diff b {
    font-weight: 500;
    background: var(--act-bg);
    padding: 0 3px;
  }
  .diff s {
    color: var(--soft);
  }
</style>
