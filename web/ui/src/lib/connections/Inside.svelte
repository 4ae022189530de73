<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take, type Connection, type Entry } from '../api/client';
  import RowsTable from '../rows/RowsTable.svelte';
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
  let view = $state<'rows' | 'columns'>('rows');

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
    </div>
    <span class="r"
      >{thing}{described.data?.rows ? `, ≈ ${count(described.data.rows)} rows` : ''}{described.data?.keys?.length
        ? `, key ${described.data.keys.join(', ')}`
        : ''}
      {#if may('builder')}<a
          class="plain"
          href="/pipelines/new?connection={encodeURIComponent(connection.name)}&{connection.holds === 'files'
            ? 'files'
            : 'table'}={encodeURIComponent(thing)}">Begin a pipeline with it</a
        >{/if}</span
    >
  </div>
  {#if described.error || sample.error}
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
