<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import State from '../lib/components/State.svelte';
  import Intake from '../lib/sheet/Intake.svelte';
  import { count } from '../lib/format';
  import { follow } from '../lib/live';
  import { may } from '../lib/session.svelte';
  import { go, openRow } from '../router';

  const queries = useQueryClient();
  const pipelines = createQuery(() => ({ queryKey: ['pipelines'], queryFn: () => take(client.GET('/api/pipelines')) }));
  $effect(() => follow(() => void queries.invalidateQueries({ queryKey: ['pipelines'] })));
  let telling = $state('');

  async function run(id: number) {
    telling = '';
    try {
      const r = await take(client.POST('/api/pipelines/{id}/runs', { params: { path: { id } }, body: {} }));
      go(`/runs/${r.id}`);
    } catch (e) {
      telling = (e as Error).message;
    }
  }
</script>

<svelte:head><title>Pipelines · Welkin</title></svelte:head>
<div class="head">
  <h1>Pipelines</h1>
  <span class="meta">each a sheet: one line a step</span>
  <div class="acts">
    {#if may('builder')}<button class="push main" onclick={() => go('/pipelines/new')}>New pipeline</button>{/if}
  </div>
</div>
{#if telling || pipelines.error}<p class="telling" role="alert">{telling || pipelines.error?.message}</p>{/if}
{#if may('builder')}<Intake
    begin={(connection, file) =>
      go(`/pipelines/new?connection=${encodeURIComponent(connection)}&files=${encodeURIComponent(file)}`)}
  />{/if}
<div class="scroll wide">
  <table class="lines">
    <thead>
      <tr
        ><th>name</th><th>from → to</th><th class="r">steps</th><th>last run</th><th class="r">loaded</th><th class="r"
          >set aside</th
        ><th>changed</th><th></th></tr
      >
    </thead>
    <tbody>
      {#each pipelines.data ?? [] as p (p.id)}
        <tr class="opens" onclick={(e) => openRow(e, `/pipelines/${p.id}`)}>
          <td><a href="/pipelines/{p.id}"><b>{p.name}</b></a></td>
          <td class="note does" title={p.does}>{p.does}</td>
          <td class="r num">{p.steps}</td>
          <td
            >{#if p.last_run}<a href="/runs/{p.last_run.id}" onclick={(e) => e.stopPropagation()}
                ><State run={p.last_run} /></a
              > <span class="note"><Ago time={p.last_run.asked_at} /></span>{:else}<span class="note">never</span
              >{/if}</td
          >
          <td class="r num">{p.last_run ? count(p.last_run.rows_loaded) : '–'}</td>
          <td class="r num" class:as={p.last_run?.rows_set_aside}
            >{p.last_run ? count(p.last_run.rows_set_aside) : '–'}</td
          >
          <td class="note"><Ago time={p.changed_at} /> by {p.changed_by}</td>
          <td class="r"
            >{#if may('operator')}<button class="plain" onclick={(e) => (e.stopPropagation(), run(p.id))}
                >Run now</button
              >{/if}</td
          >
        </tr>
      {/each}
    </tbody>
  </table>
  {#if pipelines.data?.length === 0}
    <p class="sec note">
      No pipeline yet. A pipeline is a sheet of steps that reads, cleans and joins rows and loads them somewhere. <a
        href="/pipelines/new">Begin with a step that reads</a
      >
    </p>
  {/if}
</div>

<style>
  b {
    font-weight: 650;
    color: var(--ink);
  }
  .does {
    max-width: 300px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
