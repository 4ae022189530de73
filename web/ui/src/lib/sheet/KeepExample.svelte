<script lang="ts">
  import type { Rows } from '../api/client';
  import type { Editor, Given } from './editor.svelte';
  import { asText, fromText, withExpected, withGiven } from './examples';

  /** Keeps edited rows as an example of the sheet, takes one up again, and says that what comes out now is right. */
  let {
    editor,
    place,
    names,
    given,
    after,
    takeRows,
  }: {
    editor: Editor;
    place: string; // whose rows are edited
    names: string[];
    given: Given;
    after?: { place: string; rows: Rows };
    takeRows: (rows: (string | null)[][]) => void;
  } = $props();

  const all = $derived(editor.doc.examples ?? []);
  const here = $derived(all.filter((e) => e.given.some((g) => g.step === place)));
  let name = $state('');
  const text = $derived(asText(names, given.rows));
  /** The example that the rows are, as they stand. */
  const kept = $derived(here.find((e) => e.given.some((g) => g.step === place && g.rows === text)));
  const keep = () =>
    editor.edit((d) => {
      d.examples = withGiven(d.examples ?? [], name.trim() || kept?.name || 'example', place, text);
    });
  const mostExpected = 200;
  const expected = $derived(kept?.expect?.find((x) => x.step === after?.place));
  const expectNow = () =>
    editor.edit((d) => {
      const rows = asText(
        (after!.rows.columns ?? []).map((c) => c.name),
        (after!.rows.rows ?? []).slice(0, mostExpected) as (string | null)[][],
      );
      d.examples = withExpected(d.examples ?? [], kept!.name, after!.place, rows);
    });
  function takeUp(chosen: string) {
    const rows = here.find((e) => e.name === chosen)?.given.find((g) => g.step === place);
    if (!rows) return;
    const t = fromText(rows.rows);
    takeRows(t.rows.map((r) => names.map((n) => r[t.names.indexOf(n)] ?? null)));
  }
</script>

<span class="keep">
  {#if here.length}
    <select
      class="field"
      aria-label="Take up an example"
      value={kept?.name ?? ''}
      onchange={(e) => takeUp(e.currentTarget.value)}
    >
      <option value="">examples…</option>
      {#each here as e (e.name)}<option value={e.name}>{e.name}</option>{/each}
    </select>
  {/if}
  {#if kept}
    kept as <b>{kept.name}</b>
    {#if after && (after.rows.total ?? 0) <= mostExpected}
      <button class="plain" onclick={expectNow}
        >{expected ? 'Expect what comes out now instead' : 'What comes out is right: expect it'}</button
      >
    {/if}
  {:else}
    <input
      class="field"
      placeholder="name of an example"
      aria-label="Name of the example"
      bind:value={name}
      onkeydown={(e) => e.key === 'Enter' && keep()}
    />
    <button class="plain" disabled={!name.trim()} onclick={keep}>Keep them</button>
  {/if}
</span>

<style>
  .keep {
    display: inline-flex;
    gap: 8px;
    align-items: baseline;
    margin-left: 12px;
  }
  .field {
    width: 140px;
    font-size: 12.5px;
  }
</style>
