<script lang="ts">
  import { count } from '../../format';
  import type { FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** Personal data: what is done with it, and what was found in which column. */
  let props: FormProps = $props();
  const { tried } = $derived(props);

  const report = $derived(tried?.branches?.find((b) => b.name === 'report'));
  const at = (name: string) => (report?.columns ?? []).findIndex((c) => c.name === name);
  const lines = $derived(
    (report?.rows ?? []).map((r) => ({
      column: r?.[at('column')] ?? '',
      kind: r?.[at('kind')] ?? '',
      by: r?.[at('found_by')] ?? '',
      values: Number(r?.[at('values')] ?? 0),
      rows: Number(r?.[at('rows')] ?? 0),
      looks: r?.[at('looks_like')] ?? '',
    })),
  );
</script>

<Rest {props} />
{#if report}
  {#if lines.length}
    <table class="lines" aria-label="What was found">
      <thead
        ><tr
          ><th>found in</th><th>what</th><th class="r">values</th><th class="r">of rows</th><th>looks like</th><th
            >by</th
          ></tr
        ></thead
      >
      <tbody>
        {#each lines as l, i (i)}
          <tr
            ><td><code>{l.column}</code></td><td>{l.kind}</td><td class="r num">{count(l.values)}</td><td class="r num"
              >{count(l.rows)}</td
            ><td><code>{l.looks}</code></td><td class="note">{l.by}</td></tr
          >
        {/each}
      </tbody>
    </table>
  {:else}<p class="note">Nothing was found in these rows.</p>{/if}
{/if}

<style>
  td,
  th {
    padding: 2px 10px 2px 0;
  }
  table {
    margin-top: 6px;
  }
</style>
