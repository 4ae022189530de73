<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';

  import { client, take } from '../api/client';
  import Ago from '../components/Ago.svelte';
  import Differences from './Differences.svelte';
  import type { Editor } from './editor.svelte';

  /** The saved versions of a sheet with what each changed, and what is not saved yet. */
  let { editor, readonly }: { editor: Editor; readonly: boolean } = $props();

  const versions = createQuery(() => ({
    queryKey: ['versions', editor.id, editor.version],
    enabled: editor.id !== 0,
    queryFn: () => take(client.GET('/api/pipelines/{id}/versions', { params: { path: { id: editor.id } } })),
  }));
  const unsaved = createQuery(() => ({
    queryKey: ['unsaved', editor.id, editor.version, editor.checked?.yaml],
    enabled: editor.id !== 0 && editor.dirty && editor.current,
    queryFn: async () => {
      const path = { id: editor.id, version: editor.version };
      const was = await take(client.GET('/api/pipelines/{id}/versions/{version}', { params: { path } }));
      return take(
        client.POST('/api/sheets/differences', {
          body: { before: { yaml: was.yaml }, after: { doc: editor.doc as unknown } },
        }),
      );
    },
  }));
  async function bring(version: number) {
    const was = await take(
      client.GET('/api/pipelines/{id}/versions/{version}', { params: { path: { id: editor.id, version } } }),
    );
    editor.takeVersion(was.doc);
  }
</script>

{#if editor.dirty && unsaved.data}
  <h3>Not saved yet</h3>
  <Differences list={unsaved.data} none="nothing but what stands in canonical form anyway" />
{/if}
{#if versions.data?.length}
  <h3>Versions</h3>
  {#each versions.data as v, i (v.version)}
    <div class="version">
      <span class="num">{v.version}</span>
      <span class="note">{v.saved_by}, <Ago time={v.saved_at} /></span>
      {#if i > 0 && !readonly}<button class="plain" onclick={() => bring(v.version)}>Bring it back</button>{/if}
    </div>
    <Differences list={v.differences ?? []} none={v.version === 1 ? 'the first' : 'no difference'} />
  {/each}
{/if}

<style>
  h3 {
    font: 600 13.5px var(--text);
    margin: 18px 0 4px;
  }
  .version {
    display: flex;
    gap: 14px;
    align-items: baseline;
    border-top: 1px solid var(--rule);
    padding-top: 5px;
    font-size: 13px;
  }
</style>
