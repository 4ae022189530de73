<script lang="ts">
  import { searchParams } from 'sv-router';
  import type { ComponentProps } from 'svelte';

  import { client, take, type CheckedStep, type Column } from '../api/client';
  import { count } from '../format';
  import RowsTable from '../rows/RowsTable.svelte';
  import ApiLook from './ApiLook.svelte';
  import ColumnsView from './ColumnsView.svelte';
  import { columnNames, columnsAt, inputsOf, type Editor, type StepDoc } from './editor.svelte';
  import KeepExample from './KeepExample.svelte';
  import LoadView from './LoadView.svelte';

  /** What a trial of the chosen step gave: rows before and after, those set aside,
   * the columns, the load. Rows before can be edited. */
  let {
    editor,
    step,
    checked,
    readonly,
    select,
  }: {
    editor: Editor;
    step: StepDoc;
    checked?: CheckedStep;
    readonly: boolean;
    select: (id: string) => void;
  } = $props();

  const columnsOf = (place?: string) => columnsAt(editor.checked, place);
  const view = $derived(String(searchParams.get('view') ?? 'after'));
  const show = (v: string) => searchParams.set('view', v, { replace: true });
  const tried = $derived(editor.triedStep === step.id ? editor.tried : undefined);
  const account = $derived(tried?.steps?.find((a) => a.step === step.id));
  const before = $derived(tried?.before ?? []);
  const branch = $derived(searchParams.get('branch'));
  const shownBranch = $derived(tried?.branches?.find((b) => b.name === branch));
  const after = $derived(tried && checked?.role !== 'write' ? (shownBranch ?? tried.after) : undefined);

  /** A cell is marked where it is new, or differs from the same row before. */
  const origins = $derived(new Map((before[0]?.origins ?? []).map((o, i) => [o, i])));
  function differs(row: number, col: number): boolean {
    const b = before[0];
    if (!b || !after || checked?.kind === 'group') return false;
    const at = (b.columns ?? []).findIndex((c) => c.name === after.columns?.[col]?.name);
    if (at < 0) return true;
    const was = origins.get(after.origins?.[row] ?? '');
    if (was === undefined) return false;
    return b.rows?.[was]?.[at] !== after.rows?.[row]?.[col];
  }

  // Rows before can be edited; trials then take them instead of those read.
  const given = $derived(editor.given?.step === step.id ? editor.given : undefined);
  const beforeAt = $derived(view.startsWith('before') ? Number(view.slice(6) || 0) : 0);
  function editRows() {
    const b = before[beforeAt];
    if (!b) return;
    editor.given = {
      step: step.id,
      input: beforeAt,
      columns: columnNames(editor.checked, inputsOf(step)[beforeAt]),
      rows: (b.rows ?? []).slice(0, 200).map((r) => [...(r ?? [])]) as (string | null)[][],
    };
  }
  const giveRows = (change: (rows: (string | null)[][]) => void) => {
    const rows = (given?.rows ?? []).map((r) => [...r]);
    change(rows);
    editor.give({ ...given!, rows });
  };
  // Where a row comes from tells its way through the sheet; what a group makes comes from no single one.
  const followRow = (origin?: string) =>
    origin && origin !== '·'
      ? void editor.follow(step.id, origin)
      : (editor.telling = 'This row was made here, of several or of none: it has no way of its own to follow.');

  /** Where the columns shown are those of. */
  const shownPlace = $derived(
    checked?.role === 'write' ? step.from : shownBranch ? `${step.id}.${shownBranch.name}` : step.id,
  );
  const offersOf = (column: string) => (after?.offers ?? []).filter((o) => o.column === column);
  function takeOffer(o: NonNullable<NonNullable<typeof after>['offers']>[number]) {
    const name = editor.freeName(
      o.kind === 'choose columns'
        ? 'typed'
        : o.kind === 'mask'
          ? 'masked'
          : o.kind === 'parse text'
            ? 'parsed'
            : 'cleaned',
    );
    const from = shownPlace!;
    editor.insert(from, { id: name, kind: o.kind, from, settings: o.settings as Record<string, unknown> }, true);
    select(name);
  }
  // All rows are counted when one asks; an edit makes the figure one of before.
  let counted = $state<{ of: unknown; step: string; rows: number; branches?: Record<string, number> }>();
  let counting = $state<AbortController>();
  async function countAll() {
    const mine = (counting = new AbortController());
    const [of, id] = [editor.doc, step.id];
    try {
      const c = await take(
        client.POST('/api/sheets/count', { body: { doc: of as unknown, step: id }, signal: mine.signal }),
      );
      counted = { of, step: id, rows: c.rows, branches: c.branches };
    } catch (e) {
      if (!(e instanceof DOMException)) editor.telling = `Not counted: ${(e as Error).message}`;
    }
    if (counting === mine) counting = undefined;
  }
  const exact = $derived(
    counted && counted.step === step.id && counted.of === editor.doc
      ? shownBranch
        ? counted.branches?.[shownBranch.name]
        : counted.rows
      : undefined,
  );
  /** Columns that are new and may stand out of sight, behind those that came in. */
  const fresh = $derived.by(() => {
    const came = before.flatMap((b) => (b.columns ?? []).map((c) => c.name));
    const all = (after?.columns ?? []).map((c) => c.name);
    return all.length > 6 && before.length ? all.filter((n) => !came.includes(n)) : [];
  });
  /** The columns that an unpivot makes rows of, seen where they come in. */
  const lit = $derived(
    step.kind === 'unpivot' && checked?.columns?.length
      ? columnsOf(step.from)
          .map((c) => c.name)
          .filter((n) => !checked.columns!.some((c) => c.name === n))
      : [],
  );
  /** What was asked of an API to find out its ways. */
  const asked = $derived(checked?.hint?.api as ComponentProps<typeof ApiLook>['look'] | undefined);
  const said = $derived(given ? 'edited rows' : account?.sample ? 'sample' : 'all');
</script>

{#snippet personal(c: Column)}
  {#if (step.personal ?? []).includes(c.name)}
    <span class="offer"
      ><span class="note">personal, as this step says:</span>
      <button class="plain" onclick={() => editor.markPersonal(step.id, c.name, false)}>Take the mark away</button
      ></span
    >
  {:else if columnsOf(shownPlace).find((x) => x.name === c.name)?.personal}
    <span class="offer note">personal, as what it is made of</span>
  {:else}
    <button
      class="plain"
      title="Its values are hidden, in what Welkin keeps, from readers and operators"
      onclick={() => editor.markPersonal(step.id, c.name, true)}>Mark as personal</button
    >
  {/if}
{/snippet}

{#snippet offers(c: Column)}
  {@render personal(c)}
  {#each offersOf(c.name) as o (o.sentence)}
    <span class="offer"
      ><span class="note">{o.sentence}:</span>
      <button class="plain" onclick={() => takeOffer(o)}>{o.action}</button></span
    >
  {/each}
{/snippet}

{#if tried}
  <div class="tabs">
    <div class="list" role="tablist">
      {#each before as b, i (i)}
        <button
          role="tab"
          title={i === 1 && account?.keyed
            ? 'Only the rows with keys of the rows before, out of all there are'
            : undefined}
          aria-selected={view === `before${i || ''}`}
          onclick={() => show(`before${i || ''}`)}
          >{i === 0 ? 'Before' : (checked?.inputs?.[i] ?? 'Other side')}
          <span class="num note">{count(b.total)}</span></button
        >
      {/each}
      {#if tried.load}<button role="tab" aria-selected={view === 'after'} onclick={() => show('after')}>Load</button
        >{/if}
      {#if after}<button role="tab" aria-selected={view === 'after'} onclick={() => show('after')}
          >After <span class="num note">{count(after.total)}</span></button
        >{/if}
      <button role="tab" aria-selected={view === 'columns'} onclick={() => show('columns')}>Columns</button>
      {#if asked}<button role="tab" aria-selected={view === 'asked'} onclick={() => show('asked')}
          >Replies <span class="num note">{count(asked.calls.length)}</span></button
        >{/if}
      <button role="tab" aria-selected={view === 'aside'} onclick={() => show('aside')}
        >Set aside <span class="num note" class:as={tried.set_aside_total}>{count(tried.set_aside_total)}</span></button
      >
    </div>
    {#if view === 'after' && tried.branches?.length}
      <select
        class="field"
        aria-label="Output"
        value={shownBranch?.name ?? (checked?.columns?.length ? '' : tried.branches[0]!.name)}
        onchange={(e) => searchParams.set('branch', e.currentTarget.value, { replace: true })}
      >
        {#if checked?.columns?.length}<option value="">{step.id}</option>{/if}
        {#each tried.branches as b (b.name)}<option value={b.name}>{b.name} · {count(b.total)}</option>{/each}
      </select>
    {/if}
    <span class="r" title={tried.again ? 'The steps before are as last tried; t reads everything anew' : undefined}
      >{said}{#if !readonly && !given}, up to
        <select
          class="field sample"
          aria-label="Rows that a trial reads"
          value={editor.sample}
          onchange={(e) => {
            editor.sample = Number(e.currentTarget.value);
            void editor.try(step.id);
          }}
        >
          {#each [200, 2000, 20_000, 100_000] as n (n)}<option value={n}>{count(n)}</option>{/each}
        </select>{#if account?.sample && after}<span class="exact"
            >{#if exact !== undefined}<b class="num">{count(exact)}</b> in all{:else if counting}<button
                class="plain working"
                onclick={() => counting?.abort()}>Stop counting</button
              >{:else}<button class="plain" onclick={countAll}>Count all</button>{/if}</span
          >{/if}{/if}</span
    >
  </div>
  {#if tried.load && view === 'after'}
    <LoadView load={tried.load} columns={columnsOf(step.from)} sample={account?.sample === true} />
  {:else if view === 'columns'}
    <ColumnsView
      columns={columnsOf(shownPlace)}
      about={readonly || checked?.role === 'write' ? undefined : personal}
      profile={after?.profile ?? []}
    />
  {:else if view === 'asked' && asked}
    <div class="scroll">
      <ApiLook
        look={asked}
        {step}
        {readonly}
        change={(settings) => editor.edit((d) => (d.steps.find((s) => s.id === step.id)!.settings = settings))}
      />
    </div>
  {:else if view === 'aside'}
    <div class="scroll">
      <table class="lines">
        <thead><tr><th>where</th><th>why</th><th>the row</th></tr></thead>
        <tbody>
          {#each tried.set_aside ?? [] as x (x.n)}
            <tr>
              <td
                ><span class="data">{x.place}</span><br /><span class="note"
                  >{x.key || (x.line ? `line ${x.line}` : '')} · step {x.step}</span
                ></td
              >
              <td
                >{x.sentence}{#if x.column}<br /><span class="note">column <code>{x.column}</code></span>{/if}</td
              >
              <td class="data cell"
                >{x.raw || (x.names ?? []).map((n, i) => `${n}=${x.cells?.[i] ?? '∅'}`).join('; ')}</td
              >
            </tr>
          {:else}<tr><td colspan="3" class="note">No row was set aside in this trial.</td></tr>{/each}
        </tbody>
      </table>
    </div>
  {:else if view.startsWith('before') || !after}
    {@const b = before[beforeAt] ?? before[0]}
    {#if given && given.input === beforeAt}
      <p class="sec note edited">
        Rows as you edit them; trials of this step take them, runs never do. An emptied cell is null.
        <button class="plain" onclick={() => giveRows((rows) => rows.push((b?.columns ?? []).map(() => null)))}
          >Add a row</button
        >
        <button class="plain" onclick={() => editor.give(undefined)}>Back to the rows read</button>
        <KeepExample
          {editor}
          place={inputsOf(step)[beforeAt]!}
          names={(b?.columns ?? []).map((c) => c.name)}
          {given}
          after={after && { place: shownPlace!, rows: after }}
          takeRows={(rows) => editor.give({ ...given, rows })}
        />
      </p>
      <RowsTable
        columns={b?.columns ?? []}
        rows={given.rows}
        edit={(row, col, v) => giveRows((rows) => (rows[row]![col] = v))}
        paste={(row, col, cells) =>
          giveRows((rows) =>
            cells.forEach((line, i) => {
              rows[row + i] ??= (b?.columns ?? []).map(() => null);
              line.forEach((v, k) => col + k < rows[row + i]!.length && (rows[row + i]![col + k] = v));
            }),
          )}
        remove={(row) => giveRows((rows) => rows.splice(row, 1))}
        label="Rows to edit"
      />
    {:else if b}
      {#if !readonly}<p class="sec note edited">
          <button class="plain" onclick={editRows}>Edit these rows, to try others</button>
        </p>{/if}
      <RowsTable
        columns={b.columns ?? []}
        rows={(b.rows ?? []) as (string | null)[][]}
        follow={(row) => followRow(b.origins?.[row])}
        {lit}
        label="Rows before"
      />
    {/if}
  {:else}
    {#if fresh.length}
      <p class="fresh note">
        new:
        {#each fresh.slice(0, 8) as name (name)}
          <button class="plain" onclick={() => searchParams.set('column', name, { replace: true })}>{name}</button>
        {/each}
        {#if fresh.length > 8}and {fresh.length - 8} more{/if}
      </p>
    {/if}
    <RowsTable
      columns={after.columns ?? []}
      rows={(after.rows ?? []) as (string | null)[][]}
      changed={before.length ? differs : undefined}
      follow={(row) => followRow(after.origins?.[row])}
      about={readonly ? undefined : offers}
      column={String(searchParams.get('column') ?? '')}
      label="Rows after"
    />
  {/if}
{:else if editor.trying}
  <p class="sec note working">Trying…</p>
{/if}

<style>
  .tabs .note {
    font-weight: 400;
  }
  .tabs {
    flex-wrap: wrap;
    row-gap: 0;
  }
  .tabs .list {
    display: flex;
    gap: 18px;
  }
  .tabs > select {
    width: auto;
    min-width: 110px;
  }
  .edited {
    padding-top: 4px;
    padding-bottom: 4px;
    font-size: 12.5px;
  }
  .fresh {
    margin: 0;
    padding: 3px 18px;
    font-size: 12.5px;
    display: flex;
    flex-wrap: wrap;
    gap: 0 10px;
  }
  .fresh .plain {
    font: 12.5px var(--data);
  }
  .exact {
    margin-left: 8px;
  }
  .sample {
    width: auto;
    font-size: 12.5px;
  }
  .offer {
    display: inline-flex;
    gap: 6px;
  }
  .cell {
    overflow-wrap: anywhere;
    font-size: 11.5px;
    white-space: pre-wrap;
  }
</style>
