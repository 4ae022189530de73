<script lang="ts">
  import { createInfiniteQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import State from '../lib/components/State.svelte';
  import { count, duration } from '../lib/format';
  import { follow } from '../lib/live';
  import { openRow } from '../router';

  const queries = useQueryClient();
  const state = $derived(String(searchParams.get('state') ?? ''));
  const text = $derived(String(searchParams.get('text') ?? ''));
  const pipeline = $derived(Number(searchParams.get('pipeline') ?? 0));
  const size = 50;
  const runs = createInfiniteQuery(() => ({
    queryKey: ['runs', state, text, pipeline],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/runs', { params: { query: { state, text, pipeline, before: pageParam, limit: size } } })),
    getNextPageParam: (last) => (last && last.length === size ? last[last.length - 1]!.id : undefined),
  }));
  $effect(() => follow(() => void queries.invalidateQueries({ queryKey: ['runs'] })));
  const list = $derived(runs.data?.pages.flatMap((p) => p ?? []) ?? []);
  const set = (name: string, v: string) =>
    v ? searchParams.set(name, v, { replace: true }) : searchParams.delete(name, undefined, { replace: true });
  const took = (from?: string, to?: string) =>
    from && to ? duration((new Date(to).getTime() - new Date(from).getTime()) / 1000) : '';
</script>

<svelte:head><title>Runs · Welkin</title></svelte:head>
<div class="head">
  <h1>Runs</h1>
  <label class="meta"
    >pipeline <input
      class="field"
      aria-label="Part of the pipeline’s name"
      value={text}
      oninput={(e) => set('text', e.currentTarget.value)}
    /></label
  >
  <label class="meta"
    >state
    <select class="field" value={state} onchange={(e) => set('state', e.currentTarget.value)}>
      <option value="">any</option>
      {#each ['waiting', 'running', 'done', 'set aside', 'failed', 'stopped'] as s (s)}<option value={s}
          >{s === 'set aside' ? 'with rows set aside' : s}</option
        >{/each}
    </select>
  </label>
  {#if pipeline}<button class="plain" onclick={() => searchParams.delete('pipeline')}>all pipelines</button>{/if}
</div>
{#if runs.error}<p class="telling" role="alert">{runs.error.message}</p>{/if}
<div class="scroll wide">
  <table class="lines">
    <thead>
      <tr
        ><th>run</th><th>pipeline</th><th>state</th><th class="r">read</th><th class="r">loaded</th><th class="r"
          >set aside</th
        ><th class="r">took</th><th>asked for</th></tr
      >
    </thead>
    <tbody>
      {#each list as r (r.id)}
        <tr class="opens" onclick={(e) => openRow(e, `/runs/${r.id}`)}>
          <td class="num"><a href="/runs/{r.id}">{count(r.id)}</a></td>
          <td><b>{r.pipeline}</b></td>
          <td><State run={r} /></td>
          <td class="r num">{count(r.rows_read)}</td>
          <td class="r num">{count(r.rows_loaded)}</td>
          <td class="r num" class:as={r.rows_set_aside} class:zero={!r.rows_set_aside}>{count(r.rows_set_aside)}</td>
          <td class="r num">{took(r.started_at, r.ended_at)}</td>
          <td class="note"><Ago time={r.asked_at} /> by {r.asked_by}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if runs.data && list.length === 0}
    <p class="sec note">
      {state || text || pipeline ? 'No run fits these filters.' : 'Nothing has run yet.'}
      <a href="/pipelines">Choose a pipeline to run</a>
    </p>
  {/if}
  {#if runs.hasNextPage}<p class="sec">
      <button class="push" onclick={() => runs.fetchNextPage()}>Older runs</button>
    </p>{/if}
</div>

<style>
  b {
    font-weight: 650;
  }
  label {
    display: inline-flex;
    gap: 8px;
    align-items: baseline;
  }
  label .field {
    width: 150px;
  }
</style>
