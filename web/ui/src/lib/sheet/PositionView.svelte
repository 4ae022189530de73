<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take } from '../api/client';
  import Ago from '../components/Ago.svelte';
  import Ask from '../components/Ask.svelte';
  import { may } from '../session.svelte';

  /** How far a read came that goes on from where the last run ended, and a way to set it
   * back by hand. */
  let { pipeline, step }: { pipeline: number; step: string } = $props();

  const queries = useQueryClient();
  const positions = createQuery(() => ({
    queryKey: ['positions', pipeline],
    queryFn: () => take(client.GET('/api/pipelines/{id}/positions', { params: { path: { id: pipeline } } })),
  }));
  const at = $derived(positions.data?.find((p) => p.step === step));
  const position = $derived(
    at?.position as { column?: string; up_to?: string | null; files?: { name: string }[] } | undefined,
  );
  let asking = $state(false);
  let setting = $state(false);
  let value = $state('');
  let telling = $state('');

  async function set(to: unknown) {
    telling = '';
    try {
      await take(
        client.PUT('/api/pipelines/{id}/positions/{step}', {
          params: { path: { id: pipeline, step } },
          body: to === undefined ? {} : { position: to },
        }),
      );
      setting = false;
    } catch (e) {
      telling = (e as Error).message;
    }
    await queries.invalidateQueries({ queryKey: ['positions', pipeline] });
  }
</script>

<p class="note position">
  {#if !positions.data}…{:else if !at}No run has kept a position yet: the next one begins at the start.{:else}
    Read up to
    {#if position?.files}<b class="num">{position.files.length}</b> files{:else}<code>{position?.column}</code> =
      <b class="data">{position?.up_to ?? '∅'}</b>{/if},
    {at.changed_by ? `set by ${at.changed_by}` : `by epoch ${at.epoch}`},
    <Ago time={at.changed_at} />.
    {#if may('operator')}
      <button class="plain" onclick={() => (asking = true)}>Set back to the start…</button>
      {#if !position?.files}<button
          class="plain"
          onclick={() => ((value = position?.up_to ?? ''), (setting = !setting))}>Set to a value</button
        >{/if}
    {/if}
  {/if}
</p>
{#if setting}
  <p class="position">
    <input class="field data" aria-label="New position" bind:value />
    <button class="push" onclick={() => set({ column: position?.column, up_to: value })}>Set position</button>
    <span class="note"
      >The next run reads what lies behind it; rows that were read before come again if it is earlier.</span
    >
  </p>
{/if}
{#if telling}<p class="telling" role="alert">{telling}</p>{/if}
<Ask
  bind:open={asking}
  title="Set the position of {step} back to the start?"
  gone="The next run reads everything again: a load that appends would have rows twice, one that merges by keys would not. The position itself is gone."
  verb="Set it back"
  yes={() => void set(undefined)}
/>

<style>
  .position {
    margin: 6px 0 0;
    font-size: 12.5px;
  }
  .position input {
    width: 220px;
  }
</style>
