<script lang="ts">
  import { createInfiniteQuery, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take, type Account } from '../lib/api/client';
  import Sentence from '../lib/components/Sentence.svelte';
  import Spark from '../lib/components/Spark.svelte';
  import Spread from '../lib/components/Spread.svelte';
  import State from '../lib/components/State.svelte';
  import { bytes, clock, count, duration, exact } from '../lib/format';
  import { follow } from '../lib/live';
  import { may } from '../lib/session.svelte';
  import LaneMargin from '../lib/sheet/LaneMargin.svelte';
  import { go, route } from '../router';

  const queries = useQueryClient();
  const id = $derived(Number((route.params as { id: string }).id));
  const run = createQuery(() => ({
    queryKey: ['run', id],
    // Should an event be missed, it is seen a little later.
    refetchInterval: (q) => (['running', 'waiting'].includes(q.state.data?.state ?? '') ? 5000 : false),
    queryFn: () => take(client.GET('/api/runs/{id}', { params: { path: { id } } })),
  }));
  $effect(() =>
    follow((changed) => {
      if (changed === id || changed === 0) void queries.invalidateQueries({ queryKey: ['run', id] });
    }),
  );
  const r = $derived(run.data);
  const live = $derived(r?.state === 'running' || r?.state === 'waiting');
  const accounts = $derived(new Map<string, Account>((r?.summary?.steps ?? []).map((a) => [a.step, a])));
  const total = $derived(Math.max(0.001, ...(r?.summary?.steps ?? []).map((a) => a.end || a.begin)));
  const view = $derived(String(searchParams.get('view') ?? 'receipt'));
  const step = $derived(String(searchParams.get('step') ?? ''));
  const code = $derived(String(searchParams.get('code') ?? ''));
  let telling = $state('');

  const log = createQuery(() => ({
    queryKey: ['run', id, 'log'],
    enabled: view === 'log',
    refetchInterval: live ? 1000 : false,
    queryFn: () => take(client.GET('/api/runs/{id}/log', { params: { path: { id } } })),
  }));
  const reasons = createQuery(() => ({
    queryKey: ['run', id, 'reasons'],
    enabled: view === 'aside',
    queryFn: () => take(client.GET('/api/runs/{id}/reasons', { params: { path: { id } } })),
  }));
  const aside = createInfiniteQuery(() => ({
    queryKey: ['run', id, 'aside', step, code],
    enabled: view === 'aside',
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      take(
        client.GET('/api/runs/{id}/set-aside', {
          params: { path: { id }, query: { step, code, after: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (last) => (last && last.length === 100 ? last[last.length - 1]!.n : undefined),
  }));
  const asideRows = $derived(aside.data?.pages.flatMap((p) => p ?? []) ?? []);
  const download = $derived(
    `/api/runs/${id}/set-aside.csv?step=${encodeURIComponent(step)}&code=${encodeURIComponent(code)}`,
  );

  async function act(doing: () => Promise<unknown>) {
    telling = '';
    try {
      await doing();
      await queries.invalidateQueries({ queryKey: ['run', id] });
    } catch (e) {
      telling = (e as Error).message;
    }
  }
  const stop = () => act(() => take(client.POST('/api/runs/{id}/stop', { params: { path: { id } } })));
  const again = () =>
    act(async () => {
      const next = await take(
        client.POST('/api/pipelines/{id}/runs', {
          params: { path: { id: r!.pipeline_id } },
          body: { params: r!.params ?? {} },
        }),
      );
      go(`/runs/${next.id}`);
    });
  const tall = 40;
  const show = (v: string) => searchParams.set('view', v, { replace: true });
</script>

<svelte:head><title>{r ? `${r.pipeline}, run ${r.id}` : 'Run'} · Welkin</title></svelte:head>
{#if run.error}<p class="telling" role="alert">{run.error.message}</p>{/if}
{#if r}
  <div class="head">
    <h1>
      <a class="title" href="/pipelines/{r.pipeline_id}">{r.pipeline}</a> <span class="no">run {count(r.id)}</span>
    </h1>
    <span class="meta"
      ><State run={r} />{#if r.started_at}&#32;· <time title={exact(r.started_at)}>{clock(r.started_at)}</time
        >{#if r.ended_at}, {duration(
            (new Date(r.ended_at).getTime() - new Date(r.started_at).getTime()) / 1000,
          )}{/if}{/if} · by {r.asked_by} · version {r.version}{#if r.worker}{` · ${r.worker}`}{/if}</span
    >
    <div class="acts">
      {#if may('operator')}
        {#if live}<button class="push" disabled={!!r.stop_asked_by} onclick={stop}
            >{r.stop_asked_by ? 'Stopping…' : 'Stop'}</button
          >
        {:else}<button class="push" onclick={again}>Run again</button>{/if}
      {/if}
    </div>
  </div>
  {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
  {#if r.message}<p class="telling" role="alert">{r.message}</p>{/if}
  <Spread name="run" width={690}>
    {#snippet ledger()}
      <div class="cols top">
        <span class="first">lanes</span><span>step</span><span>rows out</span><span>aside</span><span>time</span><span
          class="when">when it worked</span
        >
      </div>
      <div class="scroll">
        <div class="steps">
          <LaneMargin
            steps={(r.steps ?? []).map((s) => ({ id: s.id, inputs: s.inputs ?? [] }))}
            roles={(r.steps ?? []).map((s) => s.role)}
            {tall}
          />
          {#each r.steps ?? [] as s (s.id)}
            {@const a = accounts.get(s.id)}
            <div class="cols line" style:height="{tall}px">
              <span></span>
              <div class="what"><b>{s.id}</b><span><Sentence text={s.sentence} /></span></div>
              <span class="num">{a ? count(a.out) : '–'}</span>
              <span class="num" class:as={a?.set_aside} class:zero={!a?.set_aside}
                >{#if a?.set_aside}<button
                    class="plain as"
                    onclick={() => {
                      searchParams.set('step', s.id);
                      show('aside');
                    }}>{count(a.set_aside)}</button
                  >{:else}{a ? 0 : '–'}{/if}</span
              >
              <span class="num d">{a ? duration(a.seconds) : ''}</span>
              <span class="bar"
                >{#if a}<i
                    class:running={live}
                    style:margin-left="{(a.begin / total) * 106}px"
                    style:width="{Math.max(2, (((a.end || total) - a.begin) / total) * 106)}px"
                  ></i>{/if}</span
              >
            </div>
          {/each}
        </div>
        {#if (r.earlier ?? []).length > 1}
          <div class="sec earlier">
            <h2>Against the last {r.earlier!.length} runs <small>this run marked</small></h2>
            {#each [['rows read', r.earlier!.map((e) => e.rows_read), count(r.rows_read)], ['set aside', r.earlier!.map((e) => e.rows_set_aside), count(r.rows_set_aside)], ['seconds', r.earlier!.map((e) => e.seconds), (r.earlier![r.earlier!.length - 1]?.seconds ?? 0).toFixed(1)]] as [what, values, now] (what)}
              <div class="spark">
                <span>{what}</span><Spark
                  values={values as number[]}
                  label="{what} of the last runs"
                  ink={what === 'set aside' && r.rows_set_aside ? 'var(--aside)' : 'var(--ink)'}
                /><span class="num">{now}</span>
              </div>
            {/each}
          </div>
        {/if}
      </div>
    {/snippet}
    {#snippet page()}
      <div class="tabs" role="tablist">
        <button role="tab" aria-selected={view === 'receipt'} onclick={() => show('receipt')}>Receipt</button>
        <button role="tab" aria-selected={view === 'accounts'} onclick={() => show('accounts')}>Row accounts</button>
        <button role="tab" aria-selected={view === 'aside'} onclick={() => show('aside')}
          >Set aside, {count(r.rows_set_aside)}</button
        >
        <button role="tab" aria-selected={view === 'log'} onclick={() => show('log')}>Log</button>
      </div>
      {#if view === 'receipt'}
        <div class="scroll sec rec">
          {#if r.receipt}
            <div><b>Read</b><span class="num">{count(r.receipt.read)}</span></div>
            {#if r.receipt.made}<div>
                <span>made by groups and joins</span><span class="num">{count(r.receipt.made)}</span>
              </div>{/if}
            {#if r.receipt.copied}<div>
                <span>read by more than one step</span><span class="num">{count(r.receipt.copied)}</span>
              </div>{/if}
            <div class="sum">
              <span>to account for</span><span class="num"
                >{count(r.receipt.read + r.receipt.made + r.receipt.copied)}</span
              >
            </div>
            <div class="gap"><span>dropped by rule</span><span class="num">{count(r.receipt.dropped)}</span></div>
            <div>
              <span>set aside</span><span class="num" class:as={r.receipt.set_aside}>{count(r.receipt.set_aside)}</span>
            </div>
            <div>
              <span>into groups, or the other side of a join</span><span class="num">{count(r.receipt.absorbed)}</span>
            </div>
            {#if r.receipt.unused}<div>
                <span>out of steps that nothing reads</span><span class="num">{count(r.receipt.unused)}</span>
              </div>{/if}
            <div><span>written to targets</span><span class="num">{count(r.receipt.written)}</span></div>
            <div class="sum">
              <span>accounted for</span><span class="num"
                >{count(
                  r.receipt.dropped + r.receipt.set_aside + r.receipt.absorbed + r.receipt.unused + r.receipt.written,
                )}</span
              >
            </div>
            <p class="note">
              {r.receipt.balances ? 'The books balance.' : 'The books do not balance.'}{r.summary?.again
                ? ' The targets held this epoch already; nothing was loaded twice.'
                : ''}{(r.summary?.steps ?? []).some((a) => a.in_database)
                ? ' Done in the database, which tells of each step the rows in and out alone: what went in counts as taken up, what came out as made.'
                : ''}
            </p>
            {#each Object.entries(r.summary?.targets ?? {}) as [id, t] (id)}
              <h2>{t.target} <small>{id}{t.created ? ', made by this run' : ''}</small></h2>
              <div><span>before</span><span class="num">{count(t.before)}</span></div>
              <div><span>new</span><span class="num">{count(t.inserted)}</span></div>
              {#if t.deleted}<div><span>deleted</span><span class="num">{count(t.deleted)}</span></div>{/if}
              <div><span>changed</span><span class="num">{count(t.updated)}</span></div>
              <div><span>the same</span><span class="num">{count(t.unchanged)}</span></div>
              {#if t.left_out}<div><span>left out by rule</span><span class="num">{count(t.left_out)}</span></div>{/if}
              {#if t.superseded}<div>
                  <span>superseded by a later row of the same key</span><span class="num">{count(t.superseded)}</span>
                </div>{/if}
              <div class="sum"><span>after, counted in the target</span><span class="num">{count(t.after)}</span></div>
              {#if t.bytes}<div><span>size</span><span class="num">{bytes(t.bytes)}</span></div>{/if}
            {/each}
            {#if Object.keys(r.params ?? {}).length}
              <h2>Parameters</h2>
              {#each Object.entries(r.params ?? {}) as [k, v] (k)}<div><code>{k}</code><code>{v}</code></div>{/each}
            {/if}
          {:else if live}
            <p class="note" aria-live="polite">
              {r.state === 'waiting'
                ? 'The run waits for a worker, or for another run of this pipeline to end.'
                : `${count(r.rows_read)} rows read so far. The receipt stands here once the run is done.`}
            </p>
          {:else}
            <p class="note">
              This run loaded nothing, so there is no receipt. The rows it set aside are kept; its log says what
              happened.
            </p>
          {/if}
          {#each r.summary?.warnings ?? [] as w (w)}<p class="telling mild">{w}</p>{/each}
        </div>
      {:else if view === 'accounts'}
        <div class="scroll">
          <table class="lines">
            <thead
              ><tr
                ><th>step</th><th class="r">in</th><th class="r">made</th><th class="r">out</th><th class="r"
                  >dropped</th
                ><th class="r">aside</th><th class="r">absorbed</th><th class="r">memory</th></tr
              ></thead
            >
            <tbody>
              {#each r.summary?.steps ?? [] as a (a.step)}
                <tr>
                  <td
                    >{a.step}{#if a.matched}<br /><span class="note"
                        >matched {(a.matched ?? []).map(count).join(' and ')}, alone {(a.unmatched ?? [])
                          .map(count)
                          .join(' and ')}</span
                      >{/if}</td
                  >
                  <td class="r num">{(a.in ?? []).map(count).join(' + ')}</td><td class="r num" class:zero={!a.made}
                    >{count(a.made)}</td
                  ><td class="r num">{count(a.out)}</td>
                  <td class="r num" class:zero={!a.dropped}>{count(a.dropped)}</td><td
                    class="r num"
                    class:as={a.set_aside}
                    class:zero={!a.set_aside}>{count(a.set_aside)}</td
                  >
                  <td class="r num" class:zero={!a.absorbed}>{count(a.absorbed)}</td><td class="r num"
                    >{a.memory ? bytes(a.memory) : ''}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          <p class="sec note">
            For every step, in + made = out + dropped + set aside + absorbed + held. A run that does not add up fails.
          </p>
        </div>
      {:else if view === 'aside'}
        <div class="reasons">
          <select
            class="field"
            aria-label="Reason"
            value={step || code ? `${step}\n${code}` : ''}
            onchange={(e) => {
              const [s, c] = e.currentTarget.value.split('\n');
              if (s) {
                searchParams.set('step', s, { replace: true });
              } else searchParams.delete('step', undefined, { replace: true });
              if (c) searchParams.set('code', c, { replace: true });
              else searchParams.delete('code', undefined, { replace: true });
            }}
          >
            <option value="">every reason</option>
            {#each reasons.data ?? [] as x (`${x.step}${x.code}${x.column}`)}<option value={`${x.step}\n${x.code}`}
                >{count(x.rows)} × {x.code}{x.column ? ` in ${x.column}` : ''} (step {x.step})</option
              >{/each}
            {#if step && !code}<option value={`${step}\n`}>all of step {step}</option>{/if}
          </select>
          <a class="plain" href={download} download>Export as CSV</a>
        </div>
        <div class="scroll">
          <table class="lines">
            <thead><tr><th>where</th><th>why</th><th>the row</th></tr></thead>
            <tbody>
              {#each asideRows as x (x.n)}
                <tr>
                  <td class="place"
                    ><span class="data">{x.place || '–'}</span><br /><span class="note"
                      >{x.key || (x.line ? `line ${x.line}` : '')} · step {x.step}</span
                    ></td
                  >
                  <td
                    >{x.sentence}{#if x.column}<br /><span class="note"
                        >column <code>{x.column}</code>{#if x.value}, value <code class="as">{x.value}</code>{/if}</span
                      >{/if}</td
                  >
                  <td class="data cell"
                    >{x.raw || (x.names ?? []).map((n, i) => `${n}=${x.cells?.[i] ?? '∅'}`).join('; ')}</td
                  >
                </tr>
              {:else}
                {#if aside.data}<tr
                    ><td colspan="3" class="note">No row was set aside{step ? ' for this reason' : ''}.</td></tr
                  >{/if}
              {/each}
            </tbody>
          </table>
          {#if aside.hasNextPage}<p class="sec">
              <button class="push" onclick={() => aside.fetchNextPage()}>More rows</button>
            </p>{/if}
        </div>
      {:else}
        <div class="scroll">
          <table class="lines">
            <tbody>
              {#each log.data ?? [] as l (l.n)}
                <tr
                  ><td class="num note">{clock(l.at)}</td><td
                    class:bad={l.level === 'error'}
                    class:as={l.level === 'warn'}>{l.message}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        </div>
      {/if}
    {/snippet}
  </Spread>
{/if}

<style>
  .cols {
    grid-template-columns: 74px minmax(0, 1fr) 82px 62px 62px 124px;
  }
  .title {
    color: var(--ink);
  }
  .no {
    font-weight: 400;
    color: var(--soft);
  }
  .cols.top .when {
    text-align: left;
    padding-left: 14px;
  }
  .line {
    border-bottom: 1px solid var(--rule);
  }
  .d {
    color: var(--soft);
  }
  .bar {
    padding-left: 14px;
  }
  .bar i {
    display: block;
    height: 9px;
    background: var(--act);
    border-radius: 1px;
  }
  .bar i.running {
    background: repeating-linear-gradient(90deg, var(--act) 0 5px, transparent 5px 7px);
  }
  .plain.as {
    color: var(--aside);
    font: inherit;
    font-weight: 650;
  }
  .earlier {
    padding-left: 20px;
  }
  .spark {
    display: grid;
    grid-template-columns: 80px 430px 1fr;
    align-items: center;
    color: var(--soft);
    font-size: 13px;
  }
  .spark .num {
    color: var(--ink);
  }
  .rec {
    font-size: 13.5px;
  }
  .rec > div {
    display: grid;
    grid-template-columns: 1fr 130px;
    border-bottom: 1px solid var(--rule);
    padding: 5px 0;
  }
  .rec .num {
    text-align: right;
  }
  .rec .sum {
    border-bottom: 3px double var(--rule2);
    font-weight: 650;
  }
  .rec .gap {
    margin-top: 12px;
  }
  .rec h2 {
    margin: 18px 0 2px;
  }
  .reasons {
    display: flex;
    gap: 20px;
    align-items: baseline;
    padding: 8px 18px;
  }
  .reasons .field {
    max-width: 420px;
  }
  .reasons .plain {
    margin-left: auto;
  }
  .place {
    max-width: 190px;
    overflow-wrap: anywhere;
  }
  .cell {
    overflow-wrap: anywhere;
    font-size: 11.5px;
    white-space: pre-wrap;
  }
</style>
