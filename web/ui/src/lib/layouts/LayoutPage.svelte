<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';

  import { client, take, type Layout, type LayoutField, type LayoutRecords, type SavedLayout } from '../api/client';
  import Ask from '../components/Ask.svelte';
  import { may } from '../session.svelte';
  import FieldTable from './FieldTable.svelte';
  import { ofType } from './layout';
  import Records from './Records.svelte';

  let { saved, keep, removed }: { saved?: SavedLayout; keep: (l: SavedLayout) => void; removed: () => void } = $props();

  const readonly = $derived(!may('builder'));
  /* svelte-ignore state_referenced_locally */
  let name = $state(saved?.name ?? '');
  /* svelte-ignore state_referenced_locally */
  let layout = $state.raw<Layout | undefined>(saved?.layout as Layout | undefined);
  let type = $state(0);
  let chosen = $state('');
  let along = $state(false);
  let telling = $state('');
  let asking = $state(false);
  let pasted = $state('');
  let showText = $state(false);
  let seen = $state.raw<LayoutRecords>();

  // The file on which one draws.
  let connection = $state(String(searchParams.get('connection') ?? ''));
  let file = $state(String(searchParams.get('file') ?? ''));
  const connections = createQuery(() => ({
    queryKey: ['connections'],
    queryFn: () => take(client.GET('/api/connections')),
  }));
  const holding = $derived((connections.data ?? []).filter((c) => c.holds === 'files').map((c) => c.name));

  let asked: AbortController | undefined;
  async function look() {
    if (!connection || !file) return;
    asked?.abort();
    const mine = (asked = new AbortController());
    try {
      const r = await take(
        client.POST('/api/layouts/records', {
          body: { connection, file, layout: layout?.records?.length ? (layout as never) : undefined },
          signal: mine.signal,
        }),
      );
      if (mine !== asked) return;
      seen = r;
      telling = r.problem ?? '';
      if (!layout?.records?.length) {
        layout = r.proposal.layout as Layout;
        type = 0;
      }
    } catch (e) {
      if (!(e instanceof DOMException)) telling = (e as Error).message;
    }
  }
  $effect(() => {
    void [connection, file, layout];
    const wait = setTimeout(() => void look(), 250);
    return () => clearTimeout(wait);
  });

  const records = $derived(layout?.records ?? []);
  const mine = $derived(layout && seen ? ofType(layout, type, seen.lines ?? []).slice(0, 14) : []);
  const fields = $derived(records[type]?.fields ?? []);
  const read = $derived.by(() => {
    const out: Record<string, string[]> = {};
    for (const i of mine) {
      const r = seen?.read?.[i];
      for (const f of fields) (out[f.name] ??= []).push(r?.fault ? '!' : (r?.values?.[f.name] ?? '∅'));
    }
    return out;
  });
  const faults = $derived(
    (seen?.read ?? [])
      .map((r, i) => ({ line: i + 1, ...r }))
      .filter((r) => r.fault)
      .slice(0, 3),
  );

  function setFields(next: LayoutField[]) {
    layout = { ...layout!, records: records.map((r, i) => (i === type ? { ...r, fields: next } : r)) };
  }
  function setType(part: Partial<Layout['records'][number]>) {
    layout = { ...layout!, records: records.map((r, i) => (i === type ? { ...r, ...part } : r)) };
  }
  async function save() {
    telling = '';
    try {
      const body = { name: name.trim(), layout: layout as never, version: saved?.version };
      keep(
        saved
          ? await take(client.PUT('/api/layouts/{id}', { params: { path: { id: saved.id } }, body }))
          : await take(client.POST('/api/layouts', { body })),
      );
    } catch (e) {
      telling = (e as Error).message;
    }
  }
  async function convert() {
    try {
      const isYAML = /^\s*(encoding|length|code|records)\s*:/m.test(pasted);
      const r = await take(
        client.POST('/api/layouts/convert', { body: isYAML ? { yaml: pasted } : { copybook: pasted } }),
      );
      layout = r.layout as Layout;
      type = 0;
      telling = (r.notes ?? []).join('; ');
      showText = false;
    } catch (e) {
      telling = (e as Error).message;
    }
  }
  async function asText() {
    showText = !showText;
    if (!showText || !layout) return;
    try {
      pasted = (await take(client.POST('/api/layouts/convert', { body: { layout: layout as never } }))).yaml;
    } catch (e) {
      telling = (e as Error).message;
    }
  }
</script>

<div class="scroll all">
  <div class="sec top">
    <label
      ><span class="what">name</span><input class="field data" aria-label="Name" bind:value={name} {readonly} /></label
    >
    <label
      ><span class="what">drawn on</span><select class="field" aria-label="Connection" bind:value={connection}>
        <option value="">choose…</option>
        {#each holding as c (c)}<option value={c}>{c}</option>{/each}
      </select></label
    >
    <label class="thefile"
      ><span class="what">file</span><input
        class="field data"
        aria-label="File"
        placeholder="radio_log.dat"
        bind:value={file}
      /></label
    >
    <div class="acts">
      {#if !readonly}<button class="push main" disabled={!name.trim() || !layout} onclick={save}
          >{saved ? 'Save' : 'Keep it'}</button
        >{/if}
      <button class="plain" onclick={asText}>{showText ? 'Close text' : 'Text or copybook'}</button>
      {#if saved && !readonly}<button class="plain warn" onclick={() => (asking = true)}>Remove…</button>{/if}
    </div>
  </div>
  {#if telling}<p class="telling mild" role="status">{telling}</p>{/if}
  {#if showText}
    <div class="sec">
      <textarea class="field data" rows="10" aria-label="Layout as text" bind:value={pasted} {readonly}></textarea>
      <p class="note">
        The layout as YAML, to be kept elsewhere; or paste one, or a COBOL copybook, and
        {#if !readonly}<button class="plain" onclick={convert}>take it</button>{/if}.
      </p>
    </div>
  {/if}
  {#if layout}
    <div class="sec types">
      <label
        ><span class="what">encoding</span><input
          class="field data"
          aria-label="Encoding"
          placeholder="utf-8"
          {readonly}
          value={layout.encoding ?? ''}
          onchange={(e) => (layout = { ...layout!, encoding: e.currentTarget.value.trim() || undefined })}
        /></label
      >
      <label
        ><span class="what">record length</span><input
          class="field data short"
          type="number"
          min="0"
          aria-label="Record length"
          placeholder="lines"
          {readonly}
          value={layout.length ?? ''}
          onchange={(e) => (layout = { ...layout!, length: Number(e.currentTarget.value) || undefined })}
        /></label
      >
      <label
        ><span class="what">type code at</span><input
          class="field data short"
          type="number"
          min="0"
          aria-label="Code start"
          placeholder="none"
          {readonly}
          value={layout.code?.start ?? ''}
          onchange={(e) => {
            const start = Number(e.currentTarget.value);
            layout = { ...layout!, code: start > 0 ? { start, length: layout!.code?.length ?? 1 } : undefined };
          }}
        /></label
      >
      {#if layout.code}<label
          ><span class="what">of length</span><input
            class="field data short"
            type="number"
            min="1"
            aria-label="Code length"
            {readonly}
            value={layout.code.length}
            onchange={(e) =>
              (layout = {
                ...layout!,
                code: { start: layout!.code!.start, length: Math.max(1, Number(e.currentTarget.value)) },
              })}
          /></label
        >{/if}
      <label class="check"><input type="checkbox" bind:checked={along} /> following fields move along</label>
    </div>
    <div class="tabs">
      <div class="list" role="tablist">
        {#each records as r, i (i)}
          <button role="tab" aria-selected={i === type} onclick={() => ((type = i), (chosen = ''))}
            >{r.name || 'records'} <span class="num note">{r.fields?.length ?? 0}</span></button
          >
        {/each}
      </div>
      {#if !readonly}<button
          class="plain"
          onclick={() => {
            layout = {
              ...layout!,
              code: layout!.code ?? { start: 1, length: 1 },
              records: [...records, { name: `type ${records.length + 1}`, code: '', fields: [] }],
            };
            type = records.length;
          }}>Add a record type</button
        >{/if}
      {#if layout.code && records[type]}
        <span class="r one"
          ><input
            class="field"
            aria-label="Name of the type"
            value={records[type]!.name ?? ''}
            {readonly}
            onchange={(e) => setType({ name: e.currentTarget.value.trim() })}
          />
          has the code
          <input
            class="field data short"
            aria-label="Code of the type"
            value={records[type]!.code ?? ''}
            {readonly}
            onchange={(e) => setType({ code: e.currentTarget.value })}
          />
          {#if records.length > 1 && !readonly}<button
              class="plain warn"
              onclick={() => {
                layout = { ...layout!, records: records.filter((_, i) => i !== type) };
                type = 0;
              }}>Remove type</button
            >{/if}</span
        >
      {/if}
    </div>
    {#if seen}
      <Records
        lines={mine.map((i) => seen!.lines![i]!)}
        bytes={mine.map((i) => seen!.bytes![i]!)}
        byBytes={!!layout.length}
        {fields}
        {chosen}
        {along}
        {readonly}
        change={setFields}
        choose={(n) => (chosen = n)}
      />
      {#if !mine.length}<p class="note sec">No record of the file has the code of this type.</p>{/if}
    {:else}
      <p class="note sec">Choose a connection and a file to see its records, and to draw on them.</p>
    {/if}
    <FieldTable {fields} {chosen} {readonly} {read} change={setFields} choose={(n) => (chosen = n)} />
    {#each faults as f (f.line)}
      <p class="note sec fault">
        record {f.line}: {f.fault}{#if f.column}
          (<code>{f.column}</code>){/if}
      </p>
    {/each}
    {#if seen && !readonly}<p class="sec note">
        Proposed from the records: {(seen.proposal.why ?? []).join('; ')}.
        <button class="plain" onclick={() => ((layout = seen!.proposal.layout as Layout), (type = 0))}
          >Take the proposal</button
        >
      </p>{/if}
  {:else}
    <p class="note sec">
      Choose a connection that holds files, and a file of fixed width: its fields are proposed from its records. Or take
      a layout from text.
    </p>
  {/if}
</div>
<Ask
  bind:open={asking}
  title="Remove the layout {saved?.name}?"
  gone="Its versions are gone, and sheets that use it can't run until they name another one."
  verb="Remove it"
  yes={() =>
    void take(client.DELETE('/api/layouts/{id}', { params: { path: { id: saved!.id } } })).then(removed, (e: Error) => {
      telling = e.message;
    })}
/>

<style>
  .all {
    display: block;
  }
  .top,
  .types {
    display: flex;
    flex-wrap: wrap;
    gap: 6px 18px;
    align-items: baseline;
  }
  .top label,
  .types label {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .top input,
  .top select {
    width: 130px;
  }
  .thefile input {
    width: 170px;
  }
  .types input:not([type='checkbox']) {
    width: 84px;
  }
  .types .short {
    width: 56px !important;
  }
  .acts {
    margin-left: auto;
    display: flex;
    gap: 14px;
    align-items: baseline;
  }
  .tabs .list {
    display: flex;
    gap: 18px;
  }
  .one input {
    width: 110px;
  }
  .one .short {
    width: 44px;
  }
  .fault {
    color: var(--aside);
    padding-top: 2px;
    padding-bottom: 2px;
  }
</style>
