<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take, type Schedule } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import ScheduleForm from '../lib/components/ScheduleForm.svelte';
  import Spread from '../lib/components/Spread.svelte';
  import { exact } from '../lib/format';
  import { may } from '../lib/session.svelte';
  import { go, openRow, route } from '../router';

  const queries = useQueryClient();
  const schedules = createQuery(() => ({
    queryKey: ['schedules'],
    refetchInterval: 15_000,
    queryFn: () => take(client.GET('/api/schedules')),
  }));
  const pipelines = createQuery(() => ({ queryKey: ['pipelines'], queryFn: () => take(client.GET('/api/pipelines')) }));
  const id = $derived((route.params as { id?: string }).id);
  const chosen = $derived<Schedule | undefined>(schedules.data?.find((s) => String(s.id) === id));
  let telling = $state('');

  async function done(s?: Schedule) {
    await queries.invalidateQueries({ queryKey: ['schedules'] });
    go(s ? `/timetable/${s.id}` : '/timetable');
  }
  async function flip(s: Schedule) {
    telling = '';
    try {
      const body = {
        pipeline_id: s.pipeline_id,
        cron: s.cron,
        zone: s.zone,
        params: s.params ?? {},
        enabled: !s.enabled,
      };
      await take(client.PUT('/api/schedules/{id}', { params: { path: { id: s.id } }, body }));
      await queries.invalidateQueries({ queryKey: ['schedules'] });
    } catch (e) {
      telling = (e as Error).message;
    }
  }
</script>

<svelte:head><title>Timetable · Welkin</title></svelte:head>
<div class="head">
  <h1>Timetable</h1>
  <span class="meta">what starts by the clock</span>
  <div class="acts">
    {#if may('operator')}<button class="push main" onclick={() => go('/timetable/new')}>New schedule</button>{/if}
  </div>
</div>
{#if telling || schedules.error}<p class="telling" role="alert">{telling || schedules.error?.message}</p>{/if}
<Spread name="timetable" width={690}>
  {#snippet ledger()}
    <div class="scroll wide">
      <table class="lines">
        <thead><tr><th>pipeline</th><th>when</th><th>zone</th><th>next</th><th></th></tr></thead>
        <tbody>
          {#each schedules.data ?? [] as s (s.id)}
            <tr class="opens" class:on={String(s.id) === id} onclick={(e) => openRow(e, `/timetable/${s.id}`)}>
              <td><a href="/timetable/{s.id}"><b>{s.pipeline}</b></a></td>
              <td><code>{s.cron}</code></td>
              <td class="note">{s.zone}</td>
              <td
                >{#if s.enabled && s.next_at}<span title={exact(s.next_at, s.zone)}><Ago time={s.next_at} /></span
                  >{:else}<span class="note">off</span>{/if}</td
              >
              <td class="r"
                >{#if may('operator')}<button class="plain" onclick={(e) => (e.stopPropagation(), flip(s))}
                    >{s.enabled ? 'Turn off' : 'Turn on'}</button
                  >{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
      {#if schedules.data?.length === 0}<p class="sec note">
          Nothing starts by itself yet. A schedule starts a pipeline at set times in a time zone.
        </p>{/if}
    </div>
  {/snippet}
  {#snippet page()}
    {#if (id === 'new' || chosen) && pipelines.data}
      {#key id}<ScheduleForm schedule={chosen} pipelines={pipelines.data} {done} />{/key}
    {:else}
      <p class="sec note">Choose a schedule to see and change when it starts.</p>
    {/if}
  {/snippet}
</Spread>

<style>
  b {
    font-weight: 650;
    color: var(--ink);
  }
</style>
