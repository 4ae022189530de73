<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take, type Connection, type Entry } from '../api/client';
  import Ago from '../components/Ago.svelte';
  import RowsTable from '../rows/RowsTable.svelte';
  import ColumnsView from '../sheet/ColumnsView.svelte';
  import { bytes, count } from '../format';
  import { may } from '../session.svelte';

  let { connection }: { connection: Connection } = $props();

  const path = $derived(String(searchParams.get('path') ?? ''));
  const thing = $derived(String(searchParams.get('open') ?? ''));
  let text = $state('');
  let search = $state('');
  $effect(() => {
    const t = text;
    const wait = setTimeout(() => (search = t), 150);
    return () => clearTimeout(wait);
  });
  let view = $state<'rows' | 'columns' | 'profile'>('rows');
  const queries = useQueryClient();
  const age = createQuery(() => ({
    queryKey: ['inside', connection.id, 'age'],
    enabled: connection.holds === 'tables',
    queryFn: () => take(client.GET('/api/connections/{id}/catalogue', { params: { path: { id: connection.id } } })),
  }));
  let listing = $state(false);
  async function listAnew() {
    listing = true;
    try {
      await take(client.POST('/api/connections/{id}/catalogue', { params: { path: { id: connection.id } } }));
      await queries.invalidateQueries({ queryKey: ['inside', connection.id] });
    } catch (e) {
      telling = (e as Error).message;
    }
    listing = false;
  }
  let telling = $state('');
  const profile = createQuery(() => ({
    queryKey: ['inside', connection.id, 'profile', thing],
    enabled: thing !== '' && view === 'profile',
    queryFn: () =>
      take(
        client.GET('/api/connections/{id}/profile', {
          params: { path: { id: connection.id }, query: { path: thing } },
        }),
      ),
  }));
  let profiling = $state(false);
  async function profileNow(all: boolean) {
    profiling = true;
    telling = '';
    try {
      await take(
        client.POST('/api/connections/{id}/profile', {
          params: { path: { id: connection.id }, query: { path: thing, all } },
        }),
      );
      await queries.invalidateQueries({ queryKey: ['inside', connection.id, 'profile'] });
    } catch (e) {
      telling = (e as Error).message;
    }
    profiling = false;
  }

  const entries = createQuery(() => ({
    queryKey: ['inside', connection.id, path, search],
    queryFn: ({ signal }) =>
      take(
        client.GET('/api/connections/{id}/browse', {
          params: { path: { id: connection.id }, query: { path, search } },
          signal,
        }),
      ),
  }));
  const described = createQuery(() => ({
    queryKey: ['inside', connection.id, 'describe', thing],
    enabled: thing !== '',
    queryFn: () =>
      take(
        client.GET('/api/connections/{id}/describe', {
          params: { path: { id: connection.id }, query: { path: thing } },
        }),
      ),
  }));
  const sample = createQuery(() => ({
    queryKey: ['inside', connection.id, 'sample', thing],
    enabled: thing !== '',
    queryFn: () =>
      take(
        client.GET('/api/connections/{id}/sample', { params: { path: { id: connection.id }, query: { path: thing } } }),
      ),
  }));

  function open(e: Entry) {
    if (e.opens) {
      text = '';
      searchParams.set('path', e.path);
    } else searchParams.set('open', e.path);
  }
</script>

<div class="bar">
  <span class="where">
    <button class="plain" onclick={() => searchParams.delete('path')}>{connection.name}</button>{#if path}<span>
        / {path}</span
      >{/if}
  </span>
  {#if connection.holds === 'tables'}<span class="note"
      >{#if age.data}listed <Ago time={age.data.listed_at} />{/if}
      <button class="plain" disabled={listing} onclick={listAnew}>{listing ? 'Listing…' : 'List anew'}</button
      >{#if age.data?.failed}<span class="telling">{age.data.failed}</span>{/if}</span
    >{/if}
  <input class="field" placeholder="search names" aria-label="Search inside {connection.name}" bind:value={text} />
</div>
{#if entries.error}<p class="telling" role="alert">{entries.error.message}</p>{/if}
<div class="list scroll" class:short={thing !== ''}>
  <table class="lines">
    <tbody>
      {#each entries.data ?? [] as e (e.path)}
        <tr class="opens" class:on={e.path === thing} onclick={() => open(e)}>
          <td
            ><button class="plain" onclick={(ev) => (ev.stopPropagation(), open(e))}>{search ? e.path : e.name}</button
            ></td
          >
          <td class="note">{e.type}</td>
          <td class="r num">{e.rows !== undefined && e.rows !== null ? `≈ ${count(e.rows)} rows` : ''}</td>
          <td class="r num"
            >{e.bytes !== undefined && e.bytes !== null ? bytes(e.bytes) : e.type === 'schema' ? e.detail : ''}</td
          >
        </tr>
      {:else}
        {#if entries.data}<tr><td class="note">{search ? 'No name holds this text.' : 'Nothing is in here.'}</td></tr
          >{/if}
      {/each}
    </tbody>
  </table>
</div>
{#if thing}
  <div class="tabs">
    <div class="list" role="tablist">
      <button role="tab" aria-selected={view === 'rows'} onclick={() => (view = 'rows')}>First rows</button>
      <button role="tab" aria-selected={view === 'columns'} onclick={() => (view = 'columns')}>Columns</button>
      <button role="tab" aria-selected={view === 'profile'} onclick={() => (view = 'profile')}>Profile</button>
    </div>
    <span class="r"
      >{thing}{described.data?.rows ? `, ≈ ${count(described.data.rows)} rows` : ''}{described.data?.keys?.length
        ? `, key ${described.data.keys.join(', ')}`
        : ''}
      {#if may('builder')}<a
          class="plain"
          href="/pipelines/new?connection={encodeURIComponent(connection.name)}&{{
            files: 'files',
            tables: 'table',
            replies: 'path',
          }[connection.holds]}={encodeURIComponent(thing)}">Begin a pipeline with it</a
        >{/if}</span
    >
  </div>
  {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
  {#if view === 'profile'}
    <p class="sec note">
      {#if profile.data}Made <Ago time={profile.data.made_at} /> by {profile.data.made_by}, of {profile.data.whole
          ? 'all'
          : 'the first'}
        {count(profile.data.rows)} rows.{:else if profile.data === null || profile.isSuccess}No profile has been made
        yet.{/if}
      {#if may('builder')}
        <button class="plain" disabled={profiling} onclick={() => profileNow(false)}
          >{profiling ? 'Reading…' : 'Profile it now'}</button
        >
        <button class="plain" disabled={profiling} onclick={() => profileNow(true)}>or of all rows</button>
      {/if}
    </p>
    {#if profile.data?.before}
      <ul class="sec changes">
        {#each profile.data.changes ?? [] as c, i (i)}<li>
            {#if c.column}<code>{c.column}</code>{/if}
            {c.sentence}
          </li>{:else}<li class="note">
            Nothing of note differs from the one of <Ago time={profile.data.before} />.
          </li>{/each}
      </ul>
    {/if}
    {#if profile.data}<ColumnsView
        columns={(profile.data.columns ?? []).map((c) => ({ name: c.name, type: c.type, nullable: true }))}
        profile={profile.data.columns ?? []}
      />{/if}
  {:else if described.error || sample.error}
    <p class="telling" role="alert">{(described.error ?? sample.error)?.message}</p>
  {:else if view === 'rows' && sample.data}
    <RowsTable
      columns={sample.data.columns ?? []}
      rows={(sample.data.rows ?? []) as (string | null)[][]}
      label="First rows of {thing}"
    />
  {:else if described.data}
    <div class="scroll">
      {#if described.data.why?.length}<p class="sec note">Found by looking: {described.data.why.join('; ')}.</p>{/if}
      <table class="lines">
        <thead><tr><th>column</th><th>type</th><th>there</th><th>null</th><th></th></tr></thead>
        <tbody>
          {#each described.data.columns ?? [] as c, i (c.name)}
            <tr>
              <td><code>{c.name}</code></td>
              <td>{c.type}</td>
              <td class="note">{described.data.native?.[i] ?? ''}</td>
              <td class="note">{c.nullable ? 'may be' : 'never'}</td>
              <td class="note">{c.description}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else}<p class="sec note">Reading…</p>{/if}
{/if}

<style>
  .bar {
    display: flex;
    gap: 18px;
    align-items: baseline;
    padding: 8px 18px 4px;
  }
  .bar input {
    max-width: 240px;
    margin-left: auto;
  }
  .tabs .list {
    display: flex;
    gap: 18px;
  }
  .changes {
    margin: 0;
    padding-top: 0;
    list-style: none;
  }
  .where {
    white-space: nowrap;
  }
  .short {
    flex: 0 0 38%;
  }
  .list .plain {
    font-weight: 550;
    color: var(--ink);
  }
</style>
