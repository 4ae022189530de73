<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import type { ComponentProps } from 'svelte';

  import { client, take, type CheckedStep, type StepKind } from '../api/client';
  import { offerWords, type Help } from '../code/words';
  import SchemaForm, { type Schema } from '../components/SchemaForm.svelte';
  import { forms } from './forms/forms';
  import Found from './Found.svelte';
  import PositionView from './PositionView.svelte';
  import StepRows from './StepRows.svelte';
  import { columnsAt, inputsOf, type Editor, type StepDoc } from './editor.svelte';

  /** The chosen step: its settings, and its rows below. */
  let {
    editor,
    step,
    kinds,
    types,
    help,
    readonly,
    select,
    uses,
  }: {
    editor: Editor;
    step: StepDoc;
    kinds: StepKind[];
    types: string[];
    help: { functions: Help[]; aggregates: Help[] };
    readonly: boolean;
    select: (id: string) => void;
    uses: string[]; // the steps that read this one's rows
  } = $props();

  const kind = $derived(kinds.find((k) => k.name === step.kind));
  const checked = $derived<CheckedStep | undefined>(editor.checked?.steps?.find((s) => s.id === step.id));
  const columnsOf = (place?: string) => columnsAt(editor.checked, place);
  /** places lists everything that rows can come from: steps, and outputs of steps with several. */
  const places = $derived(
    editor.doc.steps
      .filter((s) => s.id !== step.id && kinds.find((k) => k.name === s.kind)?.role !== 'write')
      .flatMap((s) => {
        const found = editor.checked?.steps?.find((x) => x.id === s.id);
        const branches = (found?.branches ?? []).map((b) => `${s.id}.${b.name}`);
        return found?.columns?.length || !branches.length ? [s.id, ...branches] : branches;
      }),
  );
  const Form = $derived(forms[step.kind]);
  offerWords(() => ({
    columns: columnsOf(step.from),
    tables: inputsOf(step).map((place) => ({ name: place, columns: columnsOf(place) })),
    functions: help.functions,
    aggregates: help.aggregates,
    parameters: (editor.doc.parameters ?? []).map((p) => ({ name: p.name, type: p.type })),
  }));
  const more = $derived(step.more ?? []);
  const putMore = (list: string[]) =>
    editor.edit((d) => {
      d.steps.find((x) => x.id === step.id)!.more = list;
    });
  const mine = $derived((editor.checked?.problems ?? []).filter((p) => p.step === step.id));
  const problems = $derived(
    Object.fromEntries(mine.filter((p) => !p.warning && p.path).map((p) => [p.path!, p.sentence])),
  );
  const loose = $derived(mine.filter((p) => p.warning || !p.path || /^(from|with|step)/.test(p.path)));

  const connections = createQuery(() => ({
    queryKey: ['connections'],
    queryFn: () => take(client.GET('/api/connections')),
  }));
  const connection = $derived(connections.data?.find((c) => c.name === step.settings.connection));
  const inside = createQuery(() => ({
    queryKey: ['inside-names', connection?.id],
    enabled: connection !== undefined,
    staleTime: 60_000,
    queryFn: async () => {
      // What lies in folders and schemas has a point in its path; other tables are all at the top.
      const whole = ['mysql', 'sqlite', 'http'].includes(connection!.kind);
      const all = await take(
        client.GET('/api/connections/{id}/browse', {
          params: { path: { id: connection!.id }, query: whole ? {} : { search: '.' } },
        }),
      );
      return (all ?? []).filter((e) => !e.opens).map((e) => e.path.replace(/^public\./, ''));
    },
  }));

  const layouts = createQuery(() => ({
    queryKey: ['layouts'],
    enabled: step.kind === 'read files',
    queryFn: () => take(client.GET('/api/layouts')),
  }));

  /** suggest gives the words that fit a setting, by its path. */
  function suggest(path: string, format?: string): string[] {
    if (format === 'layout') return (layouts.data ?? []).map((l) => l.name);
    if (format === 'files' || format === 'tables' || format === 'replies')
      return (connections.data ?? []).filter((c) => c.holds === format).map((c) => c.name);
    const last = path.split('.').at(-1)!;
    if (step.kind === 'read table' && path === 'columns') return columnsOf(step.id).map((c) => c.name);
    if (last === 'type') return types.map((t) => t.replace('(p,s)', '(10,2)'));
    if (last === 'right' || path === 'take') return columnsOf(step.with).map((c) => c.name);
    if (['take', 'left', 'by', 'keys', 'order_by', 'column', 'columns', 'at', 'each'].includes(last))
      return columnsOf(step.from).map((c) => c.name);
    if (last === 'table' || last === 'files' || last === 'path') return inside.data ?? [];
    return [];
  }
  const change = (settings: Record<string, unknown>) =>
    editor.edit((d) => {
      d.steps.find((s) => s.id === step.id)!.settings = settings;
    });
  const put = (key: 'from' | 'with' | 'note' | 'problems', v: string) =>
    editor.edit((d) => {
      const s = d.steps.find((x) => x.id === step.id)!;
      if (v) (s as unknown as Record<string, string>)[key] = v;
      else delete s[key];
    });
  let renaming = $derived(step.id);
  function rename() {
    const to = renaming.trim();
    if (!to || to === step.id) return;
    const free = editor.freeName(to);
    editor.rename(step.id, free);
    select(free);
  }

  // What reading found can be written down, and then changed.
  const found = $derived(checked?.hint?.found as ComponentProps<typeof Found>['found'] | undefined);
  const goesOn = $derived(!!step.settings.growing || step.settings.take === 'new');
  const files = $derived((checked?.hint?.count as number | undefined) ?? 0);
  /** What columns say that are not in the files themselves. */
  const ofTheFile = ["from the file's name", 'name of the file', 'number of the row in its file'];
  const ownColumns = () =>
    columnsOf(step.id)
      .filter((c) => !ofTheFile.includes(c.description ?? ''))
      .map((c) => ({ name: c.name, type: c.type }));

  const tried = $derived(editor.triedStep === step.id ? editor.tried : undefined);
  const account = $derived(tried?.steps?.find((a) => a.step === step.id));
</script>

<div class="top scroll" class:half={tried !== undefined || editor.refused !== ''}>
  <div class="sec">
    <div class="titleline">
      <input
        class="field name"
        aria-label="Name of the step"
        bind:value={renaming}
        {readonly}
        onblur={rename}
        onkeydown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
      />
      <span class="note">{step.kind}</span>
      {#if uses.length}<span class="note uses"
          >used by {#each uses as u, i (u)}{i ? ', ' : ''}<button class="plain" onclick={() => select(u)}>{u}</button
            >{/each}</span
        >{/if}
    </div>
    {#each loose as p, i (i)}<p class="telling" class:mild={p.warning} role={p.warning ? undefined : 'alert'}>
        {p.sentence}
      </p>{/each}
    {#if kind?.ports?.length}
      <div class="wires">
        {#each ['from', 'with'].slice(0, kind.ports.length) as key, i (key)}
          <label>
            <span class="what">{i === 0 ? 'from' : 'with'}</span>
            <select
              class="field"
              disabled={readonly}
              aria-label={key}
              value={step[key as 'from' | 'with'] ?? ''}
              onchange={(e) => put(key as 'from' | 'with', e.currentTarget.value)}
            >
              <option value="">choose a step…</option>
              {#each places as p (p)}<option value={p}>{p}</option>{/each}
              {#if step[key as 'from' | 'with'] && !places.includes(step[key as 'from' | 'with']!)}<option
                  value={step[key as 'from' | 'with']}>{step[key as 'from' | 'with']} (not there)</option
                >{/if}
            </select>
          </label>
        {/each}
        {#if kind.many && step.with}
          {#each more as place, i (i)}
            <label>
              <span class="what">and</span>
              <select
                class="field"
                disabled={readonly}
                aria-label="with {i + 2}"
                value={place}
                onchange={(e) =>
                  putMore(
                    e.currentTarget.value
                      ? more.map((x, k) => (k === i ? e.currentTarget.value : x))
                      : more.filter((_, k) => k !== i),
                  )}
              >
                <option value="">none</option>
                {#each places as p (p)}<option value={p}>{p}</option>{/each}
              </select>
            </label>
          {/each}
          {#if !readonly && places.length}<button class="plain" onclick={() => putMore([...more, places[0]!])}
              >Add a step</button
            >{/if}
        {/if}
      </div>
    {/if}
    {#if kind && Form}
      {#key step.id}
        <Form
          {editor}
          {step}
          {kind}
          {checked}
          input={columnsOf(step.from)}
          other={columnsOf(step.with)}
          {tried}
          {account}
          {change}
          {suggest}
          {problems}
          {readonly}
        />
      {/key}
    {:else if kind}
      <SchemaForm schema={kind.schema as Schema} value={step.settings} {change} {suggest} {problems} {readonly} />
    {/if}
    {#if found}
      <Found {found} {files} {step} columns={ownColumns} {readonly} {change} />
    {/if}
    {#if editor.id && goesOn}<PositionView pipeline={editor.id} step={step.id} />{/if}
    <div class="more">
      <label
        ><span class="what">bad rows</span>
        <select
          class="field"
          disabled={readonly}
          value={step.problems ?? ''}
          onchange={(e) => put('problems', e.currentTarget.value)}
        >
          <option value="">set aside</option><option value="stop">stop the run</option>
        </select></label
      >
      <label class="notefield"
        ><span class="what">note</span><input
          class="field"
          {readonly}
          value={step.note ?? ''}
          onchange={(e) => put('note', e.currentTarget.value)}
        /></label
      >
    </div>
  </div>
</div>
{#if editor.refused && !editor.trying}
  <p class="telling mild">No rows yet: {editor.refused}</p>
{/if}
<StepRows {editor} {step} {checked} {readonly} {select} />

<style>
  .top.half {
    flex: 0 1 auto;
    max-height: 56%;
    border-bottom: 1px solid var(--rule);
  }
  .titleline {
    display: flex;
    gap: 10px;
    align-items: baseline;
    margin-bottom: 8px;
  }
  .titleline .name {
    font: 650 17px/1.2 var(--title);
    width: auto;
    field-sizing: content;
    border-bottom-color: transparent;
    padding-left: 0;
  }
  .titleline .name:focus {
    border-bottom-color: var(--rule2);
  }
  .titleline .note {
    white-space: nowrap;
  }
  .uses {
    margin-left: auto;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .more {
    display: flex;
    flex-wrap: wrap;
    gap: 6px 24px;
    margin-bottom: 8px;
    font-size: 13.5px;
  }
  .wires select {
    min-width: 110px;
  }
  .more label {
    display: flex;
    gap: 10px;
    align-items: baseline;
  }
  .more .what {
    color: var(--soft);
  }
  .more label:first-child .what {
    width: 112px;
    flex: none;
  }
  .more {
    margin: 12px 0 0;
  }
  .more select {
    width: 120px;
  }
  .notefield {
    flex: 1;
  }
  .notefield .field {
    flex: 1;
  }
  .telling {
    margin: 0 0 8px;
  }
  .telling.mild {
    padding: 2px 8px;
    font-size: 12.5px;
    background: none;
    color: var(--soft);
  }
</style>
