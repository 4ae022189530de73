<script lang="ts">
  import type { Cell } from './view';
  import { json } from './view';
  import JsonTree from './JsonTree.svelte';

  /** All of a cell: long text wrapped, a list or an object as a tree. */
  let { value }: { value: Cell } = $props();
  const tree = $derived(json(value));
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="whole" tabindex="0" role="region" aria-label="All of the cell">
  {#if value === null}<span class="null">∅ null</span>
  {:else if tree !== undefined}<JsonTree name="" value={tree} />
  {:else if value === ''}<span class="null">an empty text</span>
  {:else}<pre>{value}</pre>{/if}
</div>

<style>
  .whole {
    max-height: 34%;
    min-height: 60px;
    overflow: auto;
    padding: 6px 14px 10px;
    font: 12px/1.5 var(--data);
    background: var(--sunk);
    flex: none;
  }
  pre {
    margin: 0;
    font: inherit;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .null {
    color: var(--soft);
  }
</style>
