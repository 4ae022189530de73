<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take, type SavedLayout } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import Spread from '../lib/components/Spread.svelte';
  import LayoutPage from '../lib/layouts/LayoutPage.svelte';
  import { may } from '../lib/session.svelte';
  import { go, openRow, route } from '../router';

  /** Record layouts of files of fixed width, which pipelines share. */
  const queries = useQueryClient();
  const layouts = createQuery(() => ({ queryKey: ['layouts'], queryFn: () => take(client.GET('/api/layouts')) }));
  const id = $derived((route.params as { id?: string }).id);
  const chosen = $derived(layouts.data?.find((l) => String(l.id) === id));
  async function keep(l: SavedLayout) {
    await queries.invalidateQueries({ queryKey: ['layouts'] });
    go(`/layouts/${l.id}${location.search}`);
  }
  async function removed() {
    go('/layouts');
    await queries.invalidateQueries({ queryKey: ['layouts'] });
  }
</script>

<svelte:head><title>{chosen ? `${chosen.name} · ` : ''}Record layouts · Welkin</title></svelte:head>
<div class="head">
  <h1>Record layouts</h1>
  <span class="meta">where the values of files of fixed width stand</span>
  <div class="acts">
    <a class="plain" href="/connections">Connections</a>
    {#if may('builder')}<button class="push main" onclick={() => go('/layouts/new')}>New layout</button>{/if}
  </div>
</div>

<Spread name="layouts" width={360}>
  {#snippet ledger()}
    <div class="scroll">
      {#if layouts.error}<p class="telling" role="alert">{layouts.error.message}</p>{/if}
      <table class="lines">
        <thead
          ><tr><th>name</th><th class="r">fields</th><th class="r">version</th><th class="r">changed</th></tr></thead
        >
        <tbody>
          {#each layouts.data ?? [] as l (l.id)}
            <tr class="opens" class:on={String(l.id) === id} onclick={(e) => openRow(e, `/layouts/${l.id}`)}>
              <td><a href="/layouts/{l.id}"><b>{l.name}</b></a></td>
              <td class="r num">{l.layout.records?.reduce((n, r) => n + (r.fields?.length ?? 0), 0)}</td>
              <td class="r num">{l.version}</td>
              <td class="r note"><Ago time={l.changed_at} /></td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if layouts.data?.length === 0}
        <p class="sec note">
          No layout yet. A layout says where each value of a record stands, for files without delimiters.
        </p>
      {/if}
    </div>
  {/snippet}
  {#snippet page()}
    {#if id === 'new' || chosen}
      {#key chosen ? `${chosen.id}.${chosen.version}` : 'new'}<LayoutPage saved={chosen} {keep} {removed} />{/key}
    {:else}
      <p class="sec note">Choose a layout to see its fields, or begin a new one on a file.</p>
    {/if}
  {/snippet}
</Spread>

<style>
  td b {
    font-weight: 650;
    color: var(--ink);
  }
</style>
