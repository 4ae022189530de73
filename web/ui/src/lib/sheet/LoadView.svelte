<script lang="ts">
  import type { Column, LoadPreview } from '../api/client';
  import RowsTable from '../rows/RowsTable.svelte';
  import { count } from '../format';
  import { previewLines } from './load';

  /** What a load would do to its target: figures, rows, and the statements. Nothing has been written. */
  let { load, columns, sample }: { load: LoadPreview; columns: Column[]; sample: boolean } = $props();

  let only = $state('');
  const figures = $derived(
    (
      [
        ['insert', 'inserted', load.inserted],
        ['change', 'changed', load.changed],
        ['same', 'the same', load.unchanged],
        ['leave out', 'left out', load.left_out],
        ['superseded', 'superseded by another row of their key', load.superseded],
        ['refuse', 'refused', load.refused],
      ] as [string, string, number][]
    ).filter(([what, , n]) => n > 0 || what === 'insert'),
  );
  const lines = $derived(previewLines(load, only));
  const shown = $derived<Column[]>([{ name: 'row', type: 'text', nullable: false } as Column, ...columns]);
</script>

<div class="sec figures">
  {#if load.create}<span><code>{load.target}</code> is not there yet and would be made.</span>{/if}
  {#each figures as [what, words, n] (what)}
    <button class="plain" aria-pressed={only === what} onclick={() => (only = only === what ? '' : what)}
      ><b class="num" class:as={what === 'refuse' && n > 0}>{count(n)}</b> {words}</button
    >
  {/each}
  {#if load.deleted !== undefined && load.deleted !== null}
    {#if load.deleted > 0}<span class="look"><b class="num">{count(load.deleted)}</b> rows of the target deleted</span
      >{/if}
  {:else}<span class="note">which rows would be deleted, a sample can't tell</span>{/if}
  <span class="note">of {sample ? 'a sample' : 'all rows'}; nothing has been written</span>
  <details>
    <summary>what the database would be told</summary>
    {#each load.statements ?? [] as s, i (i)}<pre class="data">{s}</pre>{/each}
  </details>
</div>
<RowsTable
  columns={shown}
  rows={lines.rows}
  changed={(row, col) => col > 0 && (lines.changed[row]?.has(columns[col - 1]?.name ?? '') ?? false)}
  label="Rows of the load"
/>

<style>
  .figures {
    display: flex;
    flex-wrap: wrap;
    gap: 3px 16px;
    align-items: baseline;
    padding-top: 6px;
    padding-bottom: 6px;
    font-size: 13px;
  }
  .figures .plain {
    font-weight: 400;
    font-size: 13px;
    color: var(--ink);
  }
  .figures .plain[aria-pressed='true'] {
    box-shadow: 0 2px 0 var(--act);
  }
  .look {
    color: var(--look);
  }
  details {
    flex-basis: 100%;
    font-size: 12.5px;
    color: var(--soft);
  }
  summary {
    cursor: pointer;
    color: var(--act);
  }
  pre {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 11.5px;
    margin: 4px 0 6px;
    color: var(--ink);
  }
</style>
