<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';

  import { client, take } from '../api/client';
  import Differences from './Differences.svelte';
  import type { Editor } from './editor.svelte';

  /** Two versions made of one: what the other changed, what this one does. Nothing is lost either way. */
  let {
    editor,
    theirs,
    mine,
  }: { editor: Editor; theirs: () => Promise<void>; mine: (behind: number) => Promise<unknown> } = $props();

  const base = $derived(editor.version);
  const versions = createQuery(() => ({
    queryKey: ['conflict', editor.id, base],
    staleTime: 0,
    queryFn: async () => {
      const path = { id: editor.id };
      const latest = await take(client.GET('/api/pipelines/{id}', { params: { path } }));
      const at = async (version: number) =>
        (await take(client.GET('/api/pipelines/{id}/versions/{version}', { params: { path: { ...path, version } } })))
          .yaml;
      const [was, now] = [await at(base), await at(latest.version)];
      const differ = async (after: { yaml?: string; doc?: unknown }) =>
        (await take(client.POST('/api/sheets/differences', { body: { before: { yaml: was }, after } }))) ?? [];
      return {
        latest,
        other: await differ({ yaml: now }),
        mine: await differ({ doc: editor.doc as unknown }),
      };
    },
  }));
  const both = $derived(
    (versions.data?.other ?? []).filter((o) => o.step && versions.data!.mine.some((m) => m.step === o.step)),
  );
</script>

<div class="scroll">
  <div class="sec">
    <h2>Two versions</h2>
    <p class="telling mild" role="alert">{editor.conflict}</p>
    {#if versions.error}<p class="telling">{versions.error.message}</p>{/if}
    {#if versions.data}
      <h3>Version {versions.data.latest.version}, by {versions.data.latest.changed_by}, against version {base}</h3>
      <Differences list={versions.data.other} none="nothing differs" />
      <h3>Yours, against version {base}</h3>
      <Differences list={versions.data.mine} none="nothing differs" />
      {#if both.length}<p class="note">Both changed {[...new Set(both.map((d) => d.step))].join(', ')}.</p>{/if}
      <div class="acts">
        <button class="push" onclick={theirs}>Take theirs, give mine up</button>
        <button class="push" onclick={() => mine(versions.data!.latest.version)}
          >Save mine as version {versions.data.latest.version + 1}</button
        >
        <button class="plain" onclick={() => (editor.conflict = '')}>Go on editing</button>
      </div>
    {/if}
  </div>
</div>

<style>
  h2 {
    font: 650 17px/1.2 var(--title);
    margin: 0 0 8px;
  }
  h3 {
    font: 600 13.5px var(--text);
    margin: 14px 0 2px;
  }
  .acts {
    display: flex;
    gap: 14px;
    align-items: baseline;
    margin-top: 14px;
  }
</style>
