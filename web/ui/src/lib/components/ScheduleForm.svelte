<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take, type Pipeline, type Schedule } from '../api/client';
  import { exact } from '../format';
  import { may } from '../session.svelte';
  import Ago from './Ago.svelte';
  import Ask from './Ask.svelte';

  let { schedule, pipelines, done }: { schedule?: Schedule; pipelines: Pipeline[]; done: (s?: Schedule) => void } =
    $props();

  /* svelte-ignore state_referenced_locally */
  let pipeline = $state(schedule?.pipeline_id ?? Number(searchParams.get('pipeline') ?? pipelines[0]?.id ?? 0));
  /* svelte-ignore state_referenced_locally */
  let cron = $state(schedule?.cron ?? '10 5 * * *');
  /* svelte-ignore state_referenced_locally */
  let zone = $state(schedule?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone ?? 'UTC');
  /* svelte-ignore state_referenced_locally */
  let enabled = $state(schedule?.enabled ?? true);
  let telling = $state('');
  let asking = $state(false);

  let wanted = $state({ cron: '', zone: '' });
  $effect(() => {
    const next = { cron, zone };
    const wait = setTimeout(() => (wanted = next), 200);
    return () => clearTimeout(wait);
  });
  const times = createQuery(() => ({
    queryKey: ['schedule-times', wanted.cron, wanted.zone],
    enabled: wanted.cron !== '',
    queryFn: () => take(client.GET('/api/schedule-times', { params: { query: wanted } })),
  }));
  const zones = Intl.supportedValuesOf('timeZone');
  const examples = [
    ['10 5 * * *', 'every day at 05:10'],
    ['*/15 * * * *', 'every quarter of an hour'],
    ['0 6 * * 1-5', 'on working days at 06:00'],
    ['30 2 1 * *', 'on the first of each month at 02:30'],
  ];

  async function save(e: SubmitEvent) {
    e.preventDefault();
    telling = '';
    const body = { pipeline_id: pipeline, cron, zone, enabled, params: schedule?.params ?? {} };
    try {
      done(
        schedule
          ? await take(client.PUT('/api/schedules/{id}', { params: { path: { id: schedule.id } }, body }))
          : await take(client.POST('/api/schedules', { body })),
      );
    } catch (err) {
      telling = (err as Error).message;
    }
  }
  async function remove() {
    try {
      await take(client.DELETE('/api/schedules/{id}', { params: { path: { id: schedule!.id } } }));
      done();
    } catch (err) {
      telling = (err as Error).message;
    }
  }
</script>

<form class="scroll sec" onsubmit={save}>
  <h2>{schedule ? schedule.pipeline : 'New schedule'}</h2>
  <div class="set">
    <label for="pipeline">pipeline</label>
    <select id="pipeline" class="field" bind:value={pipeline}>
      {#each pipelines as p (p.id)}<option value={p.id}>{p.name}</option>{/each}
    </select>
    <label for="cron">when</label>
    <div>
      <input id="cron" class="field data" bind:value={cron} spellcheck="false" />
      <p class="note">
        minute, hour, day, month, weekday. Such as
        {#each examples as [c, what], i (c)}{i ? ', ' : ''}<button
            type="button"
            class="plain"
            title={c}
            onclick={() => (cron = c!)}>{what}</button
          >{/each}
      </p>
    </div>
    <label for="zone">time zone</label>
    <div>
      <input id="zone" class="field data" list="zones" bind:value={zone} spellcheck="false" />
      <datalist id="zones"
        >{#each zones as z (z)}<option value={z}></option>{/each}</datalist
      >
    </div>
    <label for="enabled">starts</label>
    <label><input id="enabled" type="checkbox" bind:checked={enabled} /> by itself</label>
  </div>
  {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
  {#if may('operator')}
    <div class="do">
      <button class="push main" disabled={!!times.error}>Save</button>
      {#if schedule}<button type="button" class="plain warn" onclick={() => (asking = true)}>Remove…</button>{/if}
    </div>
  {/if}
  <h2 class="later">Next ten times</h2>
  {#if times.error}
    <p class="telling" role="alert">{times.error.message}</p>
  {:else}
    <table class="lines" aria-label="Next ten times">
      <tbody>
        {#each times.data ?? [] as t (t)}<tr
            ><td class="data">{exact(t, wanted.zone)}</td><td class="note"><Ago time={t} /></td></tr
          >{/each}
      </tbody>
    </table>
  {/if}
</form>
{#if schedule}
  <Ask
    bind:open={asking}
    title="Remove this schedule?"
    gone="{schedule.pipeline} will no longer start at {schedule.cron} ({schedule.zone}). Its runs are kept."
    verb="Remove it"
    yes={remove}
  />
{/if}

<style>
  .set {
    display: grid;
    grid-template-columns: 90px minmax(0, 420px);
    gap: 10px;
    align-items: baseline;
    margin-top: 10px;
    font-size: 13.5px;
  }
  .set > label {
    color: var(--soft);
  }
  p {
    margin: 4px 0 0;
    font-size: 12.5px;
  }
  p .plain {
    font-size: 12.5px;
    font-weight: 500;
  }
  .do {
    display: flex;
    gap: 14px;
    align-items: baseline;
    margin-top: 16px;
  }
  .later {
    margin: 22px 0 4px;
  }
</style>
