<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take, type Connection } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import Spread from '../lib/components/Spread.svelte';
  import ConnectionForm from '../lib/connections/ConnectionForm.svelte';
  import Inside from '../lib/connections/Inside.svelte';
  import { may } from '../lib/session.svelte';
  import { go, openRow, route } from '../router';

  const queries = useQueryClient();
  const connections = createQuery(() => ({
    queryKey: ['connections'],
    queryFn: () => take(client.GET('/api/connections')),
  }));
  const kinds = createQuery(() => ({
    queryKey: ['connection-kinds'],
    staleTime: Infinity,
    queryFn: () => take(client.GET('/api/connection-kinds')),
  }));
  const id = $derived((route.params as { id?: string }).id);
  const chosen = $derived<Connection | undefined>(connections.data?.find((c) => String(c.id) === id));
  let view = $state<'inside' | 'settings'>('inside');
  $effect(() => {
    if (id === 'new') view = 'settings';
  });

  async function saved(c: Connection) {
    await queries.invalidateQueries({ queryKey: ['connections'] });
    await queries.invalidateQueries({ queryKey: ['inside', c.id] });
    view = 'inside';
    go(`/connections/${c.id}`);
  }
  async function removed() {
    go('/connections');
    await queries.invalidateQueries({ queryKey: ['connections'] });
  }
</script>

<svelte:head><title>{chosen ? `${chosen.name} · ` : ''}Connections · Welkin</title></svelte:head>
<div class="head">
  <h1>Connections</h1>
  <span class="meta">where rows come from and where they go</span>
  <div class="acts">
    <a class="plain" href="/layouts">Record layouts</a>
    {#if may('builder')}<button class="push main" onclick={() => go('/connections/new')}>New connection</button>{/if}
  </div>
</div>

<Spread name="connections" width={430}>
  {#snippet ledger()}
    <div class="scroll">
      {#if connections.error}<p class="telling" role="alert">{connections.error.message}</p>{/if}
      <table class="lines">
        <thead><tr><th>name</th><th>kind</th><th>holds</th><th class="r">changed</th></tr></thead>
        <tbody>
          {#each connections.data ?? [] as c (c.id)}
            <tr class="opens" class:on={String(c.id) === id} onclick={(e) => openRow(e, `/connections/${c.id}`)}>
              <td><a href="/connections/{c.id}"><b>{c.name}</b></a></td>
              <td>{c.kind}</td>
              <td class="note">{c.holds}</td>
              <td class="r note"><Ago time={c.changed_at} /></td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if connections.data?.length === 0}
        <p class="sec note">
          No connection yet. A connection says how a folder of files or a database is reached. Begin with the one your
          first pipeline reads.
        </p>
      {/if}
    </div>
  {/snippet}
  {#snippet page()}
    {#if id === 'new' && kinds.data}
      <ConnectionForm kinds={kinds.data} {saved} {removed} />
    {:else if chosen && kinds.data}
      <div class="sec title">
        <h2>{chosen.name}<small>{chosen.kind}, changed by {chosen.changed_by}</small></h2>
      </div>
      <div class="tabs" role="tablist">
        <button role="tab" aria-selected={view === 'inside'} onclick={() => (view = 'inside')}>What is inside</button>
        <button role="tab" aria-selected={view === 'settings'} onclick={() => (view = 'settings')}
          >Settings and check</button
        >
      </div>
      {#key chosen.id}
        {#if view === 'inside'}<Inside connection={chosen} />{:else}<ConnectionForm
            kinds={kinds.data}
            connection={chosen}
            {saved}
            {removed}
          />{/if}
      {/key}
    {:else}
      <p class="sec note">
        Choose a connection to look inside it: its tables or files, their columns, and the first rows.
      </p>
    {/if}
  {/snippet}
</Spread>

<style>
  .title {
    padding-bottom: 4px;
  }
  td b {
    font-weight: 650;
    color: var(--ink);
  }
</style>
