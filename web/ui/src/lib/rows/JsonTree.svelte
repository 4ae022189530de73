<script lang="ts">
  import Self from './JsonTree.svelte';

  /** A value of JSON: objects and lists fold. */
  let { name, value, depth = 0 }: { name: string; value: unknown; depth?: number } = $props();
  const inner = $derived(
    value !== null && typeof value === 'object'
      ? Object.entries(value as Record<string, unknown>).slice(0, 500)
      : undefined,
  );
  const isText = $derived(typeof value === 'string');
  const size = $derived(Array.isArray(value) ? `${value.length} values` : `${inner?.length ?? 0} fields`);
</script>

{#if inner}
  <details open={depth < 2}>
    <summary
      >{#if name}<b>{name}</b>{/if} <span class="note">{size}</span></summary
    >
    <div class="in">
      {#each inner as [k, v] (k)}<Self name={k} value={v} depth={depth + 1} />{/each}
    </div>
  </details>
{:else}
  <div>
    {#if name}<b>{name}</b>{/if}
    <span class={isText ? 'text' : ''}>{value === null ? 'null' : String(value)}</span>
  </div>
{/if}

<style>
  .in {
    padding-left: 16px;
    border-left: 1px solid var(--rule);
  }
  b {
    font-weight: 600;
    color: var(--act);
  }
  .text {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  summary {
    cursor: pointer;
  }
</style>
