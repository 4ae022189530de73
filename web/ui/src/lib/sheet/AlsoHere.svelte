<script lang="ts">
  import { client, take, type Present } from '../api/client';

  /** Says that one has the sheet open, and shows who else has. */
  let { id, step, changed, select }: { id: number; step: string; changed: boolean; select: (step: string) => void } =
    $props();

  let others = $state<Present[]>([]);
  async function tell(leaving = false) {
    try {
      const body = { step, changed, leaving };
      others =
        (await take(client.POST('/api/pipelines/{id}/here', { params: { path: { id } }, body, keepalive: leaving }))) ??
        [];
    } catch {
      others = []; // that someone is there is no more than a hint
    }
  }
  $effect(() => {
    void [id, step, changed]; // told at once when it changes, and again while it stays
    void tell();
    const again = setInterval(() => document.visibilityState === 'visible' && void tell(), 8000);
    return () => clearInterval(again);
  });
  $effect(() => {
    void id;
    return () => void tell(true);
  });
</script>

<svelte:window onpagehide={() => void tell(true)} />
{#if others.length}
  <span class="here" role="status"
    >· also here:
    {#each others as o, i (o.person)}{i ? ', ' : ''}<b>{o.person}</b>{#if o.step}&#32;at <button
          class="plain"
          onclick={() => select(o.step)}>{o.step}</button
        >{/if}{#if o.changed}, with changes not saved{/if}{/each}</span
  >
{/if}

<style>
  .here {
    color: var(--soft);
  }
  .here b {
    color: var(--ink);
    font-weight: 600;
  }
  .plain {
    font-weight: 400;
    font-size: 13px;
  }
</style>
