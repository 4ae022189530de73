<script lang="ts">
  import { client, take, type Outcome } from '../api/client';
  import type { Editor } from './editor.svelte';

  /** The examples of a sheet: rows kept to try it with, and tests where they say what must come of them. */
  let { editor, readonly, select }: { editor: Editor; readonly: boolean; select: (step: string) => void } = $props();

  const examples = $derived(editor.doc.examples ?? []);
  let outcomes = $state<Outcome[]>();
  let checking = $state(false);
  let telling = $state('');
  $effect(() => {
    void editor.doc;
    outcomes = undefined; // they were of the sheet as it was
  });
  async function check() {
    checking = true;
    telling = '';
    try {
      outcomes = (await take(client.POST('/api/sheets/examples', { body: { doc: editor.doc as unknown } }))) ?? [];
    } catch (e) {
      telling = (e as Error).message;
    }
    checking = false;
  }
  const remove = (name: string) =>
    editor.edit((d) => {
      d.examples = (d.examples ?? []).filter((e) => e.name !== name);
    });
  const lines = (rows: string) => Math.max(0, rows.trimEnd().split('\n').length - 1);
</script>

{#if examples.length}
  <h2 class="above">Examples</h2>
  <p class="note">
    Rows kept to try the sheet with. One that says what must come of them is a test; <code>welkin check --examples</code
    >
    runs them too.
    {#if !readonly}<button class="plain" disabled={checking} onclick={check}>Check them</button>{/if}
  </p>
  {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
  <ul>
    {#each examples as e (e.name)}
      <li>
        <b>{e.name}</b>
        <span class="note"
          >{e.given.map((g) => `${lines(g.rows)} rows at ${g.step}`).join(', ')}{e.expect?.length
            ? `; expects ${e.expect.map((x) => `${lines(x.rows)} at ${x.step}`).join(', ')}`
            : ''}</span
        >
        {#if !readonly}<button class="plain" aria-label="remove {e.name}" onclick={() => remove(e.name)}>×</button>{/if}
        {#each (outcomes ?? []).filter((o) => o.example === e.name) as o, i (i)}
          <p class="outcome" class:bad={!o.ok}>
            <b>{o.ok ? 'as expected' : 'differs'}</b>
            {o.sentence}
            {#if !o.ok && o.step}<button class="plain" onclick={() => select(o.step.split('.')[0]!)}>Look</button>{/if}
          </p>
          {#each [['missing', o.missing], ['not expected', o.extra]] as const as [word, rows] (word)}
            {#each (rows ?? []).slice(0, 5) as r, k (k)}
              <p class="row">
                <span class="note">{word}</span> <code>{(r ?? []).map((v) => v || '∅').join(' · ')}</code>
              </p>
            {/each}
          {/each}
        {/each}
      </li>
    {/each}
  </ul>
{/if}

<style>
  .above {
    margin-top: 22px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    border-top: 1px solid var(--rule);
    padding: 5px 0;
    font-size: 13.5px;
  }
  .outcome,
  .row {
    margin: 2px 0 0 14px;
    font-size: 13px;
  }
</style>
