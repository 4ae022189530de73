<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import { untrack } from 'svelte';

  import { client, take, type Account, type StepKind } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import Ask from '../lib/components/Ask.svelte';
  import Sentence from '../lib/components/Sentence.svelte';
  import Spread from '../lib/components/Spread.svelte';
  import State from '../lib/components/State.svelte';
  import { change, count, duration } from '../lib/format';
  import { follow } from '../lib/live';
  import { may } from '../lib/session.svelte';
  import { finding } from '../lib/finding.svelte';
  import { Editor, inputsOf, stepOf, stepsAsText } from '../lib/sheet/editor.svelte';
  import AlsoHere from '../lib/sheet/AlsoHere.svelte';
  import Intake from '../lib/sheet/Intake.svelte';
  import GatherForm from '../lib/sheet/GatherForm.svelte';
  import Overview from '../lib/sheet/Overview.svelte';
  import { linesOf, type Line } from '../lib/sheet/stretches';
  import ConflictView from '../lib/sheet/ConflictView.svelte';
  import LaneMargin from '../lib/sheet/LaneMargin.svelte';
  import SheetPage from '../lib/sheet/SheetPage.svelte';
  import StepPage from '../lib/sheet/StepPage.svelte';
  import TextView from '../lib/sheet/TextView.svelte';
  import WayView from '../lib/sheet/WayView.svelte';
  import WhatNext from '../lib/sheet/WhatNext.svelte';
  import { go, route } from '../router';

  const queries = useQueryClient();
  const param = $derived((route.params as { id: string }).id);
  const id = $derived(param === 'new' ? 0 : Number(param));
  const catalogue = createQuery(() => ({
    queryKey: ['steps'],
    staleTime: Infinity,
    queryFn: () => take(client.GET('/api/steps')),
  }));
  const saved = createQuery(() => ({
    queryKey: ['pipeline', id],
    enabled: id !== 0,
    refetchOnWindowFocus: false,
    queryFn: () => take(client.GET('/api/pipelines/{id}', { params: { path: { id } } })),
  }));
  let editor = $state<Editor>(new Editor(0));
  let loaded = $state(-1);
  $effect(() => {
    const data = saved.data;
    const wanted = id;
    untrack(() => {
      if (wanted === loaded) return;
      if (wanted === 0) {
        editor = new Editor(0);
        editor.begin();
        loaded = 0;
        adding = editor.doc.steps.length === 0;
        const [connection, files, table, path] = ['connection', 'files', 'table', 'path'].map((k) =>
          String(searchParams.get(k) ?? ''),
        );
        if (connection && (files || table || path)) {
          for (const k of ['connection', 'files', 'table', 'path'])
            searchParams.delete(k, undefined, { replace: true });
          if (path) beginWith(connection, 'read api', { path });
          else beginWith(connection, files ? 'read files' : 'read table', files ? { files } : { table: table! });
        }
      } else if (data && data.id === wanted) {
        if (editor.id !== wanted) editor = new Editor(wanted);
        if (!editor.version || editor.version !== data.version) editor.load(data);
        loaded = wanted;
      }
    });
  });
  $effect(() => follow(() => void queries.invalidateQueries({ queryKey: ['pipeline', id] })));

  $effect(() => {
    const mine = editor;
    return () => mine.keepNow();
  });

  const readonly = $derived(!may('builder'));
  const steps = $derived(editor.doc.steps);
  const kinds = $derived<StepKind[]>(catalogue.data?.kinds ?? []);
  const kindOf = (name: string) => kinds.find((k) => k.name === name);
  const chosenId = $derived(String(searchParams.get('step') ?? ''));
  const chosen = $derived(steps.find((s) => s.id === chosenId));
  const asText = $derived(searchParams.get('text') === 1 || searchParams.get('text') === '1');
  let adding = $state(false);
  let removing = $state(false);

  function select(s: string) {
    editor.followed = undefined;
    gathering = false;
    shownFolded = '';
    searchParams.set('step', s, { replace: true });
    searchParams.delete('column', undefined, { replace: true }); // it was to be shown at the step before
  }
  /** wholeSheet shows what belongs to no single step: parameters, limits, where it runs. */
  function wholeSheet() {
    editor.followed = undefined;
    searchParams.delete('step', undefined, { replace: true });
  }
  function showText(on: boolean) {
    if (on) searchParams.set('text', '1');
    else searchParams.delete('text');
  }

  // Stretches are folded for oneself; what belongs together is said in the sheet.
  let folded = $derived(JSON.parse(localStorage.getItem(`welkin.folded.${id}`) ?? '[]') as string[]);
  const lines = $derived(linesOf(steps, editor.doc.stretches ?? [], folded));
  function fold(name: string, on = !folded.includes(name)) {
    folded = on ? [...folded.filter((f) => f !== name), name] : folded.filter((f) => f !== name);
    localStorage.setItem(`welkin.folded.${id}`, JSON.stringify(folded));
  }
  function unname(name: string) {
    editor.edit((d) => {
      d.stretches = (d.stretches ?? []).filter((s) => s.name !== name);
    });
  }
  /** goLine moves along the ledger; a folded stretch is passed as one line, its last step being chosen. */
  function goLine(by: number) {
    const at = lines.findIndex((l) => l.steps.some((s) => s.id === chosenId));
    const to = lines[at < 0 ? 0 : at + by];
    if (!to) return;
    select(to.steps.at(-1)!.id);
    if (to.folded) shownFolded = to.steps.at(-1)!.id;
  }
  let gathering = $state(false);
  const stretchOf = $derived(lines.find((l) => l.id === chosenId)?.stretch);
  // A step that is chosen, by a key or a link, is seen.
  $effect(() => {
    const line = lines.find((l) => l.folded && l.steps.some((s) => s.id === chosenId));
    if (line?.stretch && chosenId !== untrack(() => shownFolded)) untrack(() => fold(line.stretch!.name, false));
  });
  let shownFolded = $state(''); // the step that stays chosen while its stretch is folded over it

  let lineBox = $state<HTMLElement>();
  let ledgerTop = $state(0);
  let ledgerTall = $state(400);
  const long = 24; // lines from which the whole is shown beside
  const marks = $derived(
    lines.length <= long
      ? []
      : lines.map((l) => ({
          id: l.id,
          what: l.folded ? l.stretch!.name : l.id,
          look: l.steps.some((s) => s.id === chosenId)
            ? ('on' as const)
            : l.steps.some((s) => problemOf(s.id))
              ? ('wrong' as const)
              : l.steps.some((s) => figures.get(s.id)?.set_aside)
                ? ('aside' as const)
                : l.folded
                  ? ('stretch' as const)
                  : ('plain' as const),
        })),
  );
  $effect(() => {
    void chosenId;
    void lines;
    untrack(() => lineBox?.querySelector('.line.on')?.scrollIntoView({ block: 'nearest' }));
  });
  /** The figures of a folded stretch: what comes out at its end, and what all its steps did. */
  function together(l: Line) {
    const all = l.steps.map((s) => figures.get(s.id)).filter((a) => a !== undefined);
    return {
      out: figures.get(l.steps.at(-1)!.id)?.out,
      aside: all.reduce((n, a) => n + a.set_aside, 0),
      seconds: all.reduce((n, a) => n + a.seconds, 0),
      any: all.length > 0,
    };
  }

  // The figures are the last trial's where it reached, else the last run's.
  const figures = $derived(
    new Map<string, Account>(
      [...(saved.data?.figures?.steps ?? []), ...(editor.tried?.steps ?? [])].map((a): [string, Account] => [
        a.step,
        a,
      ]),
    ),
  );
  const triedSteps = $derived((editor.tried?.steps ?? []).map((a) => a.step));
  const source = $derived(
    [
      editor.tried ? `figures of a trial up to ${editor.triedStep}` : '',
      saved.data?.figures
        ? `${editor.tried ? 'the others, in soft ink, ' : 'figures '}of run ${saved.data.figures_run}`
        : '',
    ]
      .filter((x) => x !== '')
      .join('; '),
  );
  const problemOf = (s: string) => (editor.checked?.problems ?? []).find((p) => p.step === s && !p.warning);
  const general = $derived((editor.checked?.problems ?? []).filter((p) => !p.step && !p.warning));

  // A chosen step is tried by itself once the sheet has been checked.
  let last = '';
  let lastCheck: unknown;
  $effect(() => {
    const c = editor.checked;
    const s = chosenId;
    if (!c || !s || readonly || !editor.current) return;
    const key = `${s}\n${c.yaml}`;
    const again = editor.refused !== '' && c !== lastCheck; // what was refused may be mended outside of the sheet's text
    if (key === last && !again) return;
    lastCheck = c;
    const up = needed(s);
    if ((c.problems ?? []).some((p) => !p.warning && p.step && up.includes(p.step))) {
      last = ''; // once mended it is tried anew, even where nothing else has changed
      return;
    }
    last = key;
    untrack(() => void editor.try(s));
  });
  function needed(s: string, seen: string[] = []): string[] {
    const st = steps.find((x) => x.id === s);
    if (!st || seen.includes(s)) return seen;
    seen.push(s);
    for (const place of inputsOf(st)) needed(stepOf(place), seen);
    return seen;
  }

  /** beginWith adds a step that reads something, at the end. */
  function beginWith(
    connection: string,
    kind: 'read files' | 'read table' | 'read api',
    what: { files?: string; table?: string; path?: string },
  ) {
    const words = (what.files ?? what.table ?? what.path ?? '')
      .split(/[/.]/)
      .filter((w) => w && !/^(csv|parquet|jsonl|txt|gz|public)$/.test(w));
    const name = editor.freeName(
      (words.at(-1) ?? 'rows')
        .replace(/[^\p{L}\p{N}_ -]+/gu, ' ')
        .trim()
        .replace(/^[^\p{L}_]+/u, '') || 'rows',
    );
    editor.insert(steps.at(-1)?.id ?? '', { id: name, kind, settings: { connection, ...what } }, false);
    if (editor.doc.name === 'New pipeline') editor.edit((d) => (d.name = name.charAt(0).toUpperCase() + name.slice(1)));
    adding = false;
    select(name);
  }

  function add(k: StepKind) {
    const after = kindOf(chosen?.kind ?? '')?.role === 'write' ? '' : (chosen?.id ?? steps.at(-1)?.id ?? '');
    const words: Record<string, string> = {
      'read files': 'rows',
      'read table': 'rows',
      'choose columns': 'typed',
      'keep rows': 'kept',
      'derive columns': 'derived',
      join: 'joined',
      group: 'grouped',
      'write file': 'file',
      'write table': 'load',
    };
    const name = editor.freeName(words[k.name] ?? k.name);
    const settings: Record<string, unknown> = {};
    for (const [f, s] of Object.entries(
      (k.schema as { properties?: Record<string, { type?: string }>; required?: string[] }).properties ?? {},
    ))
      if ((k.schema as { required?: string[] }).required?.includes(f)) settings[f] = s.type === 'array' ? [] : '';
    editor.insert(
      chosen?.id ?? steps.at(-1)?.id ?? '',
      { id: name, kind: k.name, ...(k.role === 'read' ? {} : { from: after }), settings },
      k.role === 'work' && after !== '',
    );
    adding = false;
    select(name);
  }
  function removeStep() {
    if (!chosen) return;
    const at = steps.indexOf(chosen);
    editor.remove(chosen.id);
    const next = editor.doc.steps[Math.min(at, editor.doc.steps.length - 1)];
    if (next) select(next.id);
  }
  async function save() {
    const fresh = editor.id === 0;
    const p = await editor.save();
    if (!p) return false;
    queries.setQueryData(['pipeline', p.id], p);
    void queries.invalidateQueries({ queryKey: ['pipelines'] });
    if (fresh) {
      localStorage.removeItem('welkin.draft.0');
      loaded = p.id;
      go(`/pipelines/${p.id}${chosenId ? `?step=${encodeURIComponent(chosenId)}` : ''}`, true);
    }
    return true;
  }
  async function run() {
    if ((editor.dirty || editor.id === 0) && !(await save())) return;
    try {
      const r = await take(client.POST('/api/pipelines/{id}/runs', { params: { path: { id: editor.id } }, body: {} }));
      go(`/runs/${r.id}`);
    } catch (e) {
      editor.telling = (e as Error).message;
    }
  }
  async function removePipeline() {
    try {
      await take(client.DELETE('/api/pipelines/{id}', { params: { path: { id: editor.id } } }));
      localStorage.removeItem(`welkin.draft.${editor.id}`);
      await queries.invalidateQueries({ queryKey: ['pipelines'] });
      go('/pipelines');
    } catch (e) {
      editor.telling = (e as Error).message;
    }
  }

  // Steps and columns of this sheet are found before everything else.
  $effect(() => {
    finding.here = () => {
      const columns: Record<string, string[]> = {};
      for (const s of editor.checked?.steps ?? []) for (const c of s.columns ?? []) (columns[c.name] ??= []).push(s.id);
      return [
        ...steps.map((s) => ({ name: s.id, what: `step, ${s.kind}`, act: () => select(s.id) })),
        ...Object.entries(columns).flatMap(([name, at]) =>
          at.map((s) => ({ name, what: `column at ${s}`, act: () => showColumn(s, name) })),
        ),
      ];
    };
    return () => (finding.here = () => []);
  });
  function showColumn(step: string, column: string) {
    select(step);
    searchParams.set('view', 'after', { replace: true });
    searchParams.set('column', column, { replace: true });
  }

  /** usesOf lists the steps that read a step's rows. */
  const usesOf = (s: string) => steps.filter((x) => inputsOf(x).some((place) => stepOf(place) === s)).map((x) => x.id);

  const selecting = () => (window.getSelection()?.toString() ?? '') !== '';
  function copied(e: ClipboardEvent) {
    if (!chosen || typing(e) || selecting() || (e.target instanceof HTMLElement && e.target.closest('[role=grid]')))
      return;
    const text = stepsAsText(editor.yaml, [chosen.id]);
    if (!text) return;
    e.clipboardData?.setData('text/plain', text);
    e.preventDefault();
  }
  async function pasted(e: ClipboardEvent) {
    const text = e.clipboardData?.getData('text/plain') ?? '';
    if (readonly || typing(e) || !/^\s*(- step:|steps:|welkin:)/m.test(text)) return;
    e.preventDefault();
    const name = await editor.paste(text, chosen?.id ?? steps.at(-1)?.id ?? '');
    if (name) select(name);
  }
  const typing = (e: Event) =>
    e.target instanceof HTMLElement &&
    e.target.closest('input,textarea,select,[contenteditable=true],.cm-editor,[role=dialog]') !== null;
  function key(e: KeyboardEvent) {
    if ((e.ctrlKey || e.metaKey) && e.key === 's') {
      e.preventDefault();
      if (!readonly) void save();
      return;
    }
    if (e.key === 'Escape' && e.target instanceof HTMLElement && e.target.closest('.page')) e.target.blur();
    if (e.ctrlKey || e.metaKey || e.altKey || typing(e)) return;
    const edits: Record<string, () => void> = readonly
      ? {}
      : {
          a: () => (adding = true),
          d: () => {
            const copy = chosen && editor.duplicate(chosen.id);
            if (copy) select(copy);
          },
          Delete: removeStep,
          u: () => editor.undo(),
          U: () => editor.redo(),
          t: () => chosen && void editor.try(chosen.id, true),
          g: () => (gathering = chosen !== undefined && !stretchOf),
          f: () => {
            if (!stretchOf) return;
            shownFolded = chosenId;
            fold(stretchOf.name, true);
          },
        };
    const doing: Record<string, () => void> = {
      ...edits,
      Escape: () => (editor.followed ? (editor.followed = undefined) : chosen && wholeSheet()),
      ArrowDown: () => goLine(1),
      ArrowUp: () => goLine(-1),
      ArrowLeft: () => chosen && inputsOf(chosen)[0] && select(stepOf(inputsOf(chosen)[0]!)),
      ArrowRight: () => chosen && usesOf(chosen.id)[0] && select(usesOf(chosen.id)[0]!),
      Enter: () =>
        document
          .querySelector<HTMLElement>(
            '.page :is([data-setting], .table) :is(input, select, textarea, button, [contenteditable=true])',
          )
          ?.focus(),
      ...(may('operator') ? { r: () => void run() } : {}),
    };
    if (e.target instanceof HTMLElement && e.key === 'Enter' && e.target.closest('button,a')) return;
    const act = doing[e.key];
    if (!act) return;
    e.preventDefault();
    act();
  }
  const tall = 43;
</script>

<svelte:window onkeydown={key} oncopy={copied} onpaste={pasted} onpagehide={() => editor.keepNow()} />
<svelte:head><title>{editor.doc.name || 'Pipeline'} · Welkin</title></svelte:head>
{#if saved.error}<p class="telling" role="alert">{saved.error.message}</p>{/if}
{#if loaded >= 0}
  <div class="head">
    <input
      class="field sheetname"
      aria-label="Name of the pipeline"
      {readonly}
      value={editor.doc.name}
      onchange={(e) => editor.edit((d) => (d.name = e.currentTarget.value))}
    />
    <span class="meta">
      {#if editor.dirty}changed, not saved{:else if saved.data}version {saved.data.version}, changed <Ago
          time={saved.data.changed_at}
        />{/if}{#if saved.data?.last_run}&#32;· last run&#32;
        <a href="/runs/{saved.data.last_run.id}"><State run={saved.data.last_run} /></a>{/if}
      {#if editor.id}<AlsoHere id={editor.id} step={chosenId} changed={editor.dirty} {select} />{/if}
    </span>
    <div class="acts">
      {#if (chosen || editor.followed) && !asText}<button class="plain" onclick={wholeSheet}>Whole sheet</button>{/if}
      <button class="plain" aria-pressed={asText} onclick={() => showText(!asText)}>{asText ? 'Steps' : 'Text'}</button>
      {#if editor.id && may('operator')}<a class="plain" href="/timetable/new?pipeline={editor.id}">Schedule</a>{/if}
      {#if !readonly}
        <button class="push" disabled={!chosen || editor.trying} onclick={() => chosen && editor.try(chosen.id, true)}
          >Try <kbd>t</kbd></button
        >
        <button class="push" disabled={editor.saving || (!editor.dirty && editor.id !== 0)} onclick={save}>Save</button>
      {/if}
      {#if may('operator')}<button
          class="push main"
          disabled={editor.saving || editor.checked?.ready === false}
          title={editor.checked?.ready === false ? 'The sheet has mistakes; they stand at their steps' : ''}
          onclick={run}>{editor.dirty || !editor.id ? 'Save and run' : 'Run now'}</button
        >{/if}
    </div>
  </div>
  {#if editor.telling}<p class="telling" role="alert">{editor.telling}</p>{/if}
  <Spread name="sheet">
    {#snippet ledger()}
      <div class="cols top" class:long={marks.length > 0}>
        <span class="first">lanes</span><span>step</span><span>rows out</span><span>change</span><span>aside</span><span
          >time</span
        >
      </div>
      <div class="around">
        <div
          class="scroll"
          class:long={marks.length > 0}
          role="group"
          aria-label="Steps"
          bind:this={lineBox}
          bind:clientHeight={ledgerTall}
          onscroll={(e) => (ledgerTop = e.currentTarget.scrollTop)}
        >
          <div class="steps">
            <LaneMargin
              steps={lines.map((l) => ({ id: l.id, inputs: l.inputs }))}
              roles={lines.map((l) => (l.folded ? 'stretch' : (kindOf(l.steps[0]!.kind)?.role ?? '')))}
              {tall}
            />
            {#each lines as l (l.id)}
              {#if l.folded}
                {@const sum = together(l)}
                <button
                  class="cols line stretch"
                  class:on={l.steps.some((s) => s.id === chosenId)}
                  aria-current={l.steps.some((s) => s.id === chosenId)}
                  aria-expanded="false"
                  style:height="{tall}px"
                  title="Show its steps"
                  onclick={() => fold(l.stretch!.name, false)}
                >
                  <span></span>
                  <span class="what"
                    ><b>{l.stretch!.name}</b><span
                      >{l.steps.length} steps, {l.steps[0]!.id} to {l.steps.at(-1)!.id}</span
                    ></span
                  >
                  <span class="num">{sum.out === undefined ? '' : count(sum.out)}</span><span class="num d"></span>
                  <span class="num" class:as={sum.aside > 0} class:zero={!sum.aside}
                    >{sum.any ? count(sum.aside) : ''}</span
                  >
                  <span class="num d">{sum.any ? duration(sum.seconds) : ''}</span>
                </button>
              {:else}
                {@const s = l.steps[0]!}
                {@const a = figures.get(s.id)}
                {@const role = kindOf(s.kind)?.role}
                {@const wrong = problemOf(s.id)}
                {@const info = editor.checked?.steps?.find((x) => x.id === s.id)}
                <button
                  class="cols line"
                  class:on={s.id === chosenId}
                  class:older={editor.tried !== undefined && !triedSteps.includes(s.id)}
                  aria-current={s.id === chosenId}
                  style:height="{tall}px"
                  onclick={() => select(s.id)}
                >
                  <span></span>
                  <span class="what"
                    ><b
                      >{s.id}{#if l.stretch}<i class="of">{l.stretch.name}</i>{/if}</b
                    >{#if wrong}<span class="bad">{wrong.sentence}</span>{:else}<span
                        ><Sentence text={info?.sentence ?? s.kind} /></span
                      >{/if}</span
                  >
                  <span class="num"
                    >{a ? count(role === 'write' && triedSteps.includes(s.id) ? (a.in ?? [])[0] : a.out) : ''}</span
                  >
                  <span class="num d">{a && role === 'work' ? change((a.in ?? [])[0] ?? 0, a.out) : a ? '–' : ''}</span>
                  <span class="num" class:as={a?.set_aside} class:zero={!a?.set_aside}
                    >{a ? count(a.set_aside) : ''}</span
                  >
                  <span class="num d">{a ? duration(a.seconds) : ''}</span>
                </button>
                {#if adding && s.id === (chosen?.id ?? steps.at(-1)?.id)}<WhatNext
                    {kinds}
                    after={s.id}
                    {add}
                    close={() => (adding = false)}
                  />{/if}
                {#if gathering && s.id === chosenId}<GatherForm
                    {editor}
                    from={s.id}
                    done={(name) => {
                      gathering = false;
                      if (!name) return;
                      shownFolded = chosenId;
                      fold(name, true);
                    }}
                  />{/if}
              {/if}
            {/each}
          </div>
          {#if adding && steps.length === 0}<WhatNext {kinds} after="" {add} close={() => (adding = false)} />{/if}
          {#if !readonly}<Intake
              offer={steps.length === 0}
              begin={(connection, file) => beginWith(connection, 'read files', { files: file })}
            />{/if}
          {#if !adding && !readonly}
            <button class="invite" onclick={() => (adding = true)}
              ><kbd>a</kbd><i
                >{steps.length
                  ? `What next after “${chosen?.id ?? steps.at(-1)?.id}”?`
                  : 'Where do the rows come from?'}</i
              ></button
            >
          {/if}
        </div>
        {#if marks.length}<Overview
            {marks}
            top={ledgerTop}
            tall={ledgerTall}
            whole={lines.length * tall}
            go={(share) => lineBox?.scrollTo({ top: share * lines.length * tall - ledgerTall / 2 })}
          />{/if}
      </div>
      <div class="foot">
        {#each steps.length ? general : [] as p, i (i)}<p class="telling" role="alert">
            {p.line ? `line ${p.line}: ` : ''}{p.sentence}
          </p>{/each}
        <span class="note">{source || 'no figures yet: choose a step to try it'}</span>
        {#if !readonly}
          <span class="undo">
            <button class="plain" disabled={editor.past.length === 0} onclick={() => editor.undo()}>Undo</button>
            <button class="plain" disabled={editor.future.length === 0} onclick={() => editor.redo()}>Redo</button>
            {#if editor.dirty && saved.data}<button class="plain" onclick={() => editor.discard(saved.data!)}
                >Back to the saved one</button
              >{/if}
            {#if chosen && stretchOf}
              <button class="plain" onclick={() => ((shownFolded = chosenId), fold(stretchOf.name, true))}
                >Fold {stretchOf.name}</button
              >
              <button class="plain" onclick={() => unname(stretchOf.name)}>Take the stretch apart</button>
            {:else if chosen}<button class="plain" onclick={() => (gathering = true)}>Gather…</button>{/if}
            {#if chosen}<button class="plain warn" onclick={removeStep}>Remove step</button>{/if}
            {#if editor.id}<button class="plain warn" onclick={() => (removing = true)}>Remove pipeline…</button>{/if}
          </span>
        {/if}
      </div>
    {/snippet}
    {#snippet page()}
      {#if editor.conflict}
        <ConflictView
          {editor}
          theirs={async () => {
            const p = await take(client.GET('/api/pipelines/{id}', { params: { path: { id: editor.id } } }));
            queries.setQueryData(['pipeline', editor.id], p);
            editor.discard(p);
          }}
          mine={(behind) => {
            editor.settle(behind);
            return save();
          }}
        />
      {:else if asText}
        <TextView {editor} {readonly} {kinds} types={catalogue.data?.types ?? []} />
      {:else if editor.followed}
        <WayView {editor} {select} />
      {:else if chosen}
        {#key editor}<StepPage
            {editor}
            step={chosen}
            {kinds}
            types={catalogue.data?.types ?? []}
            help={{ functions: catalogue.data?.functions ?? [], aggregates: catalogue.data?.aggregates ?? [] }}
            {readonly}
            {select}
            uses={usesOf(chosen.id)}
          />{/key}
      {:else}
        <SheetPage {editor} {readonly} {select} types={catalogue.data?.types ?? []} />
      {/if}
    {/snippet}
  </Spread>
  <Ask
    bind:open={removing}
    title="Remove {editor.doc.name}?"
    gone="The pipeline, its versions, schedules and the list of its runs will be gone, set-aside rows too. What it loaded stays in its targets."
    verb="Remove it"
    yes={removePipeline}
  />
{/if}

<style>
  .cols {
    grid-template-columns: 74px minmax(0, 1fr) 74px 66px 52px 60px;
  }
  .sheetname {
    font: 650 25px/1.1 var(--title);
    letter-spacing: -0.015em;
    width: auto;
    field-sizing: content;
    max-width: 360px;
    border-bottom-color: transparent;
    padding: 0;
  }
  .sheetname:hover:not([readonly]),
  .sheetname:focus {
    border-bottom-color: var(--rule2);
  }
  .line {
    width: 100%;
    border: 0;
    border-bottom: 1px solid var(--rule);
    background: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
    padding-top: 0;
    padding-bottom: 0;
    padding-left: 0;
  }
  .line.on {
    background: var(--raised);
    box-shadow: inset 3px 0 0 var(--act);
  }
  .line:focus-visible {
    outline-offset: -2px;
  }
  .what > span.bad {
    color: var(--look);
  }
  .d {
    color: var(--soft);
  }
  .line.older .num {
    color: var(--faint);
  }
  .line .num.as {
    font-weight: 650;
  }
  .around {
    position: relative;
    flex: 1;
    min-height: 0;
    display: flex;
  }
  .scroll.long {
    padding-right: 22px;
  }
  .cols.long {
    padding-right: 36px;
  }
  .stretch b::before {
    content: '▸ ';
    color: var(--soft);
  }
  .of {
    font: 400 12px var(--text);
    color: var(--soft);
    margin-left: 10px;
  }
  .invite {
    display: flex;
    gap: 10px;
    align-items: center;
    width: 100%;
    border: 0;
    background: none;
    padding: 9px 14px 9px 74px;
    color: var(--soft);
    font: 13px var(--text);
    cursor: text;
    text-align: left;
  }
  .invite i {
    font-style: normal;
    flex: 1;
    border-bottom: 1px dashed var(--rule2);
    padding-bottom: 2px;
  }
  .foot {
    border-top: 3px double var(--rule2);
    padding: 7px 14px 8px 20px;
    display: flex;
    flex-wrap: wrap;
    gap: 4px 16px;
    align-items: baseline;
    flex: none;
  }
  .foot .telling {
    flex-basis: 100%;
    margin: 0;
  }
  .undo {
    margin-left: auto;
    display: flex;
    flex-wrap: wrap;
    gap: 2px 12px;
  }
  .undo .plain {
    font-size: 12.5px;
  }
  .plain:disabled {
    color: var(--faint);
    cursor: default;
    text-decoration: none;
  }
</style>
