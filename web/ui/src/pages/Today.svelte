<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take, type Run } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import State from '../lib/components/State.svelte';
  import { clock, count, duration, exact } from '../lib/format';
  import { follow } from '../lib/live';

  const queries = useQueryClient();
  const today = createQuery(() => ({
    queryKey: ['today'],
    queryFn: () => take(client.GET('/api/today')),
    refetchInterval: 30_000,
  }));
  $effect(() => follow(() => void queries.invalidateQueries({ queryKey: ['today'] })));

  const now = $derived(today.data ? new Date(today.data.now) : new Date());
  const title = $derived(
    new Intl.DateTimeFormat('en-GB', { weekday: 'long', day: 'numeric', month: 'long' }).format(now),
  );
  const runs = $derived(today.data?.runs ?? []);
  const failed = $derived(runs.filter((r) => r.state === 'failed' || r.state === 'stopped').length);
  const aside = $derived(runs.filter((r) => r.state === 'done' && r.rows_set_aside > 0).length);

  /** The day as a strip: a line for each pipeline, its runs as marks on it. */
  const dayStart = $derived(new Date(now.getFullYear(), now.getMonth(), now.getDate()).getTime());
  const wide = 462;
  const x = (t: string | number) => Math.max(0, Math.min(1, (new Date(t).getTime() - dayStart) / 86_400_000)) * wide;
  const strip = $derived.by(() => {
    const lines: { id: number; name: string; runs: Run[]; next: string[] }[] = [];
    const line = (id: number, name: string) => {
      let l = lines.find((x) => x.id === id);
      if (!l) lines.push((l = { id, name, runs: [], next: [] }));
      return l;
    };
    for (const r of runs) if (new Date(r.asked_at).getTime() >= dayStart) line(r.pipeline_id, r.pipeline).runs.push(r);
    for (const c of today.data?.next ?? []) {
      const l = line(c.pipeline_id, c.pipeline);
      if (new Date(c.at).getTime() < dayStart + 86_400_000) l.next.push(c.at);
    }
    return lines.sort((a, b) => a.name.localeCompare(b.name));
  });
</script>

<svelte:head><title>Today · Welkin</title></svelte:head>
<div class="head">
  <h1>{title}</h1>
  <span class="meta"
    >in the last 24 hours: <b>{runs.length} {runs.length === 1 ? 'run' : 'runs'}</b>{#if runs.length}, {runs.filter(
        (r) => r.state === 'done',
      ).length} done{#if aside}, {aside} with rows set aside{/if}{#if failed}, {failed} failed or stopped{/if}{/if}</span
  >
</div>
{#if today.error}<p class="telling" role="alert">{today.error.message}</p>{/if}
<div class="two">
  <section>
    <h2>Needs a person <small>{today.data?.needs?.length ?? ''}</small></h2>
    {#each today.data?.needs ?? [] as r (r.id)}
      <div class="need">
        <State run={r.state === 'done' ? { ...r, state: 'done' } : r} />
        <div>
          <b>{r.pipeline}</b>
          <span class="note"
            >{#if r.state === 'done'}
              {count(r.rows_set_aside)} of <span class="num">{count(r.rows_read)}</span> rows were set aside; the others are
              loaded.
            {:else}{r.message}{/if}
            <Ago time={r.ended_at} /></span
          >
        </div>
        <a href={r.state === 'done' ? `/runs/${r.id}?view=aside` : `/runs/${r.id}`}
          >{r.state === 'done' ? 'Look at rows' : 'See why'}</a
        >
      </div>
    {:else}
      {#if today.data}<p class="note">
          Nothing does: every pipeline’s last run went through without a row set aside.
        </p>{/if}
    {/each}

    <h2 class="later">The day <small>now {clock(now)}</small></h2>
    {#if strip.length}
      <div class="day">
        <span></span>
        <svg width={wide} height="16" aria-hidden="true">
          {#each [0, 4, 8, 12, 16, 20] as h (h)}<text x={(h / 24) * wide} y="12">{String(h).padStart(2, '0')}</text
            >{/each}
        </svg>
        {#each strip as l (l.id)}
          <a class="name" href="/pipelines/{l.id}">{l.name}</a>
          <svg
            width={wide}
            height="30"
            role="img"
            aria-label="{l.name}: {l.runs.length} runs today, {l.next.length} to come"
          >
            <path d="M0 15H{wide}" stroke="var(--rule)" stroke-width="2" />
            {#each l.runs as r (r.id)}
              {@const from = x(r.started_at ?? r.asked_at)}
              {#if r.state === 'failed' || r.state === 'stopped'}
                <path d="M{from - 4} 10l8 10m0-10l-8 10" stroke="var(--look)" stroke-width="2"
                  ><title>{r.state} {exact(r.asked_at)}</title></path
                >
              {:else}
                <rect
                  x={from}
                  y="10"
                  width={Math.max(4, x(r.ended_at ?? today.data!.now) - from)}
                  height="10"
                  fill={r.rows_set_aside ? 'var(--aside)' : 'var(--act)'}
                  opacity={r.state === 'done' ? 1 : 0.5}><title>{r.state} {exact(r.asked_at)}</title></rect
                >
              {/if}
            {/each}
            {#each l.next as t (t)}<rect x={x(t)} y="10.5" width="5" height="9" fill="none" stroke="var(--soft)"
                ><title>due {exact(t)}</title></rect
              >{/each}
            <path d="M{x(now.getTime())} 0V30" stroke="var(--ink)" />
          </svg>
        {/each}
      </div>
      <p class="note key">
        ▮ done &nbsp; <span class="as">▮ with rows set aside</span> &nbsp; <span class="bad">✕ failed or stopped</span> &nbsp;
        ▯ to come
      </p>
    {:else if today.data}
      <p class="note">
        Nothing ran today and nothing is due. <a href="/timetable/new">Put a pipeline into the timetable</a>
      </p>
    {/if}
  </section>
  <section class="right">
    <h2>Next</h2>
    {#each today.data?.next ?? [] as c, i (i)}
      <div class="next">
        <time class="num" title={exact(c.at, c.zone)}>{clock(c.at, c.zone)}</time>
        <span
          ><a class="name" href="/pipelines/{c.pipeline_id}">{c.pipeline}</a>
          <span class="note"><Ago time={c.at} />, {c.zone}</span></span
        >
        <span class="num note">{c.usual_seconds ? `≈ ${duration(c.usual_seconds)}` : ''}</span>
      </div>
    {:else}
      {#if today.data}<p class="note">Nothing is due. <a href="/timetable">Open the timetable</a></p>{/if}
    {/each}
    <h2 class="later">Last runs</h2>
    {#each runs.slice(0, 8) as r (r.id)}
      <div class="next">
        <time class="num" title={exact(r.asked_at)}>{clock(r.asked_at)}</time>
        <span><a class="name" href="/runs/{r.id}">{r.pipeline}</a> <State run={r} /></span>
        <span class="num note">{count(r.rows_loaded)} rows</span>
      </div>
    {:else}
      {#if today.data}<p class="note">
          Nothing ran in the last 24 hours. <a href="/pipelines">Choose a pipeline to run</a>
        </p>{/if}
    {/each}
  </section>
</div>

<style>
  .two {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    border-top: 1px solid var(--rule);
  }
  section {
    padding: 14px 20px;
    overflow: auto;
  }
  .right {
    background: var(--raised);
    border-left: 1px solid var(--rule2);
  }
  h2 {
    border-bottom: 1px solid var(--rule2);
    padding-bottom: 8px;
  }
  .later {
    margin-top: 26px;
  }
  .need {
    display: grid;
    grid-template-columns: 112px 1fr auto;
    gap: 12px;
    padding: 9px 0;
    border-bottom: 1px solid var(--rule);
    align-items: baseline;
  }
  .need b {
    display: block;
    font-weight: 650;
  }
  .day {
    display: grid;
    grid-template-columns: 130px 1fr;
    align-items: stretch;
  }
  .day > :global(*) {
    border-bottom: 1px solid var(--rule);
  }
  .day .name {
    line-height: 30px;
  }
  .day text {
    font: 11px var(--data);
    fill: var(--soft);
  }
  .name {
    color: var(--ink);
    font-weight: 550;
  }
  .key {
    margin: 8px 0 0;
    font-size: 12px;
  }
  .next {
    display: grid;
    grid-template-columns: 60px 1fr auto;
    gap: 10px;
    padding: 8px 0;
    border-bottom: 1px solid var(--rule);
    align-items: baseline;
  }
</style>
