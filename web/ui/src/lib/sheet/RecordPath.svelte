<script lang="ts">
  import Self from './RecordPath.svelte';

  /** A reply as a tree, in which the list of the records is chosen. */
  let {
    name,
    value,
    path,
    chosen,
    choose,
    depth = 0,
  }: {
    name: string;
    value: unknown;
    path: string;
    chosen: string;
    choose?: (path: string) => void;
    depth?: number;
  } = $props();
  const list = $derived(Array.isArray(value) ? (value as unknown[]) : undefined);
  const inner = $derived(
    value !== null && typeof value === 'object' && !list ? Object.entries(value as Record<string, unknown>) : undefined,
  );
  const ofObjects = $derived(
    !!list?.length && list.every((v) => v !== null && typeof v === 'object' && !Array.isArray(v)),
  );
  const isIt = $derived(ofObjects && (path === chosen || (path === '' && chosen === '$')));
</script>

{#if list}
  <details open={depth < 3}>
    <summary
      >{#if name}<b>{name}</b>{/if}
      <span class="note">{list.length} items</span>
      {#if isIt}<span class="it">the records</span>{:else if ofObjects && choose}<button
          class="plain"
          onclick={(e) => (e.preventDefault(), choose(path))}>these are the records</button
        >{/if}</summary
    >
    <div class="in">
      {#each list.slice(0, 3) as v, i (i)}<Self
          name={String(i)}
          value={v}
          {path}
          {chosen}
          {choose}
          depth={depth + 1}
        />{/each}
      {#if list.length > 3}<span class="note">and {list.length - 3} more</span>{/if}
    </div>
  </details>
{:else if inner}
  <details open={depth < 4}>
    <summary
      >{#if name}<b>{name}</b>{/if} <span class="note">{inner.length} fields</span></summary
    >
    <div class="in">
      {#each inner as [k, v] (k)}<Self
          name={k}
          value={v}
          path={path ? `${path}.${k}` : k}
          {chosen}
          {choose}
          depth={depth + 1}
        />{/each}
    </div>
  </details>
{:else}
  <div>
    {#if name}<b>{name}</b>{/if}
    {value === null ? 'null' : String(value)}
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
  .it {
    font-weight: 650;
  }
  summary {
    cursor: pointer;
  }
</style>
