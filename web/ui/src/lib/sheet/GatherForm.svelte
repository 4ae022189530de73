<script lang="ts">
  import type { Editor } from './editor.svelte';
  import { reachOf } from './stretches';

  /** Gives a name to steps that follow each other, so that they can be shown as one line. */
  let { editor, from, done }: { editor: Editor; from: string; done: (name?: string) => void } = $props();

  const reach = $derived(reachOf(editor.doc.steps, editor.doc.stretches ?? [], from));
  let name = $state('');
  let last = $state('');
  const end = $derived(last || reach[Math.min(2, reach.length - 1)]?.id || from);
  const taken = $derived((editor.doc.stretches ?? []).some((s) => s.name === name.trim()));
  function gather() {
    if (!name.trim() || taken) return;
    const stretch = { name: name.trim(), first: from, last: end };
    editor.edit((d) => {
      const at = (id: string) => d.steps.findIndex((s) => s.id === id);
      d.stretches = [...(d.stretches ?? []), stretch].sort((a, b) => at(a.first) - at(b.first));
    });
    done(stretch.name);
  }
  const focus = (el: HTMLInputElement) => el.focus();
</script>

<form
  class="gather"
  onsubmit={(e) => {
    e.preventDefault();
    gather();
  }}
>
  {#if reach.length}
    <label
      >from <b>{from}</b> to
      <select class="field" aria-label="last step of the stretch" bind:value={() => end, (v) => (last = v)}>
        {#each reach as s (s.id)}<option value={s.id}>{s.id}</option>{/each}
      </select></label
    >
    <label
      >as <input
        class="field"
        aria-label="name of the stretch"
        placeholder="what these steps do"
        bind:value={name}
        {@attach focus}
        onkeydown={(e) => e.key === 'Escape' && (e.stopPropagation(), done())}
      /></label
    >
    <button class="plain" disabled={!name.trim() || taken}>Show as one line</button>
    {#if taken}<span class="bad">there is a stretch of this name already</span>{/if}
  {:else}<span class="note">This step is in a stretch already.</span>{/if}
  <button type="button" class="plain" onclick={() => done()}>Close</button>
</form>

<style>
  .gather {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 14px;
    align-items: baseline;
    padding: 6px 14px 8px 74px;
    border-bottom: 1px solid var(--rule);
    background: var(--raised);
    font-size: 13px;
  }
  .field {
    width: auto;
  }
  .bad {
    font-size: 12.5px;
  }
</style>
