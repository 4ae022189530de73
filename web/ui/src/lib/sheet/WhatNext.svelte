<script lang="ts">
  import type { StepKind } from '../api/client';
  import { meant } from './kinds';

  /** Asks what comes next, at the line where it goes: a field to type into and a
   * short list with examples. */
  let {
    kinds,
    after,
    add,
    close,
  }: { kinds: StepKind[]; after: string; add: (k: StepKind) => void; close: () => void } = $props();

  let text = $state('');
  let at = $state(0);
  const hits = $derived(
    meant(
      kinds.filter((k) => after !== '' || k.role === 'read'),
      text,
    ),
  );
  const choose = (k: StepKind | undefined) => k && add(k);
  function key(e: KeyboardEvent) {
    if (e.key === 'ArrowDown') at = Math.min(at + 1, hits.length - 1);
    else if (e.key === 'ArrowUp') at = Math.max(at - 1, 0);
    else if (e.key === 'Enter') choose(hits[at]);
    else if (e.key === 'Escape') close();
    else return;
    e.preventDefault();
    e.stopPropagation();
  }
  const focus = (el: HTMLInputElement) => el.focus();
</script>

<div class="next" role="dialog" aria-label="What next">
  <input
    {@attach focus}
    class="field"
    aria-label="What next"
    placeholder={after ? `What next after “${after}”? Type what you want to do` : 'Where do the rows come from?'}
    bind:value={text}
    oninput={() => (at = 0)}
    onkeydown={key}
  />
  <ul class="hits" role="listbox" aria-label="Kinds of step">
    {#each hits as k, i (k.name)}
      <!-- The field has the keys; a press takes it too. -->
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li role="option" aria-selected={i === at} class:on={i === at} onclick={() => add(k)}>
        <b>{k.name}</b><span>{k.help}</span><code>{k.example}</code>
      </li>
    {:else}<li class="none">No step does this. Press Esc to close.</li>{/each}
  </ul>
</div>

<style>
  .next {
    padding: 8px 14px 8px 74px;
    background: var(--raised);
    border-bottom: 1px solid var(--rule2);
    border-top: 1px solid var(--rule2);
  }
  .hits li[role] {
    display: grid;
    grid-template-columns: 116px 1fr;
    gap: 0 10px;
  }
  code {
    grid-column: 2;
    font-size: 11.5px;
  }
</style>
