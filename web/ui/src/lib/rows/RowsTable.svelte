<script lang="ts">
  import { untrack, type Snippet } from 'svelte';

  import type { Column } from '../api/client';
  import { count } from '../format';
  import CellView from './CellView.svelte';
  import {
    arranged,
    asTable,
    fromTable,
    isNumber,
    usualWidth,
    within,
    type Cell,
    type Row,
    type Sorting,
  } from './view';

  /** Rows as a table: figures to the right, nulls faint, what a step changed
   * marked. Rows and columns are drawn as they come into view; sorting, filters,
   * widths and kept columns are of the view alone. */
  let {
    columns,
    rows,
    changed,
    edit,
    paste,
    remove,
    about,
    follow,
    column = '',
    lit = [],
    label,
  }: {
    columns: Column[];
    rows: Row[];
    changed?: (row: number, column: number) => boolean;
    /** Takes an edited cell; with it the cells can be typed into. */
    edit?: (row: number, column: number, value: Cell) => void;
    /** Takes cells pasted from a spreadsheet, of which the first stands at row and column. */
    paste?: (row: number, column: number, cells: Cell[][]) => void;
    remove?: (row: number) => void;
    /** What else is said of the chosen column. */
    about?: Snippet<[Column]>;
    /** Shows the way of a row through the sheet. */
    follow?: (row: number) => void;
    /** A column to be brought into view. */
    column?: string;
    /** Columns that stand out. */
    lit?: string[];
    label: string;
  } = $props();

  const uid = $props.id();
  const height = 25;
  let scroller = $state<HTMLElement>();
  let top = $state(0);
  let left = $state(0);
  let tall = $state(400);
  let wide = $state(600);

  // How the rows are looked at; columns are known by name, so that it lasts while a step is edited.
  let sorting = $state<Sorting>();
  let filters = $state<Record<string, string>>({});
  let pinned = $state<string[]>([]);
  let widths = $state<Record<string, number>>({});
  let chosen = $state('');
  let opened = $state(false);

  const places = $derived(arranged(rows, columns, filters, sorting));
  const total = $derived(places?.length ?? rows.length);
  const placeOf = (i: number) => (places ? places[i]! : i);
  const filtered = $derived(columns.filter((c) => (filters[c.name] ?? '').trim() !== '').map((c) => c.name));

  const usual = $derived(columns.map((c, k) => usualWidth(c, rows, k)));
  const widthOf = (k: number) => widths[columns[k]!.name] ?? usual[k]!;
  const kept = $derived(columns.flatMap((c, k) => (pinned.includes(c.name) ? [k] : [])));
  const others = $derived(columns.flatMap((c, k) => (pinned.includes(c.name) ? [] : [k])));
  const keptWidth = $derived(kept.reduce((sum, k) => sum + widthOf(k), 0));
  const seen = $derived(within(others.map(widthOf), left, left + wide - keptWidth));
  const drawn = $derived(others.slice(seen.first, seen.last));
  const template = $derived(
    [
      ...kept.map((k) => `${widthOf(k)}px`),
      `${seen.before}px`,
      ...drawn.map((k) => `${widthOf(k)}px`),
      `${seen.behind}px`,
    ]
      .concat(remove ? ['30px'] : [])
      .join(' '),
  );
  const order = $derived([...kept, ...others]);
  const first = $derived(Math.max(0, Math.min(Math.floor(top / height) - 4, total)));
  const last = $derived(Math.min(total, Math.ceil((top + tall) / height) + 4));
  const offset = (n: number) => kept.slice(0, n).reduce((sum, k) => sum + widthOf(k), 0);

  // The cell one stands on, and the other corner of what is marked: places in the view.
  let at = $state<{ row: number; col: number }>();
  let corner = $state<{ row: number; col: number }>();
  const marked = $derived.by(() => {
    if (!at) return undefined;
    const other = corner ?? at;
    return {
      top: Math.min(at.row, other.row),
      bottom: Math.min(Math.max(at.row, other.row), total - 1),
      left: Math.min(at.col, other.col),
      right: Math.min(Math.max(at.col, other.col), order.length - 1),
    };
  });
  const isMarked = (i: number, k: number) => {
    if (!marked || i < marked.top || i > marked.bottom) return false;
    const col = order.indexOf(k);
    return col >= marked.left && col <= marked.right;
  };
  const chosenColumn = $derived(columns.find((c) => c.name === chosen));
  const standing = $derived(
    at && at.row < total && at.col < order.length
      ? {
          column: columns[order[at.col]!]!,
          value: rows[placeOf(at.row)]?.[order[at.col]!] ?? null,
          row: placeOf(at.row),
        }
      : undefined,
  );

  function stand(row: number, col: number, mark = false) {
    row = Math.max(0, Math.min(row, total - 1));
    col = Math.max(0, Math.min(col, order.length - 1));
    if (total === 0 || order.length === 0) return;
    if (mark) corner ??= at;
    else corner = undefined;
    at = { row, col };
    chosen = columns[order[col]!]!.name;
    if (!scroller) return;
    const y = row * height;
    if (y < scroller.scrollTop) scroller.scrollTop = y;
    else if (y + height > scroller.scrollTop + tall - 44) scroller.scrollTop = y + height - tall + 44;
    if (col >= kept.length) {
      const x = others.slice(0, col - kept.length).reduce((sum, k) => sum + widthOf(k), 0);
      const w = widthOf(order[col]!);
      if (x < scroller.scrollLeft) scroller.scrollLeft = x;
      else if (x + w > scroller.scrollLeft + wide - keptWidth) scroller.scrollLeft = x + w - wide + keptWidth;
    }
  }
  let brought = '';
  $effect(() => {
    const wanted = column;
    if (!wanted || !rows.length || !scroller || wanted === brought) return;
    brought = wanted; // once: later trials leave one where one is
    untrack(() => {
      const col = order.findIndex((k) => columns[k]!.name === wanted);
      if (col >= 0) stand(0, col);
    });
  });
  function copy() {
    if (!marked) return;
    const out: Cell[][] = [];
    for (let i = marked.top; i <= marked.bottom; i++)
      out.push(order.slice(marked.left, marked.right + 1).map((k) => rows[placeOf(i)]?.[k] ?? null));
    void navigator.clipboard?.writeText(asTable(out));
  }
  function key(e: KeyboardEvent) {
    if (e.target instanceof HTMLInputElement || e.altKey) return;
    const here = at ?? { row: -1, col: 0 };
    const page = Math.max(1, Math.floor(tall / height) - 3);
    const all = e.ctrlKey || e.metaKey;
    const moves: Record<string, () => void> = {
      ArrowDown: () => stand(here.row + 1, here.col, e.shiftKey),
      ArrowUp: () => stand(here.row - 1, here.col, e.shiftKey),
      ArrowRight: () => stand(Math.max(here.row, 0), here.col + (at ? 1 : 0), e.shiftKey),
      ArrowLeft: () => stand(Math.max(here.row, 0), here.col - 1, e.shiftKey),
      PageDown: () => stand(here.row + page, here.col, e.shiftKey),
      PageUp: () => stand(here.row - page, here.col, e.shiftKey),
      Home: () => stand(all ? 0 : here.row, all ? here.col : 0, e.shiftKey),
      End: () => stand(all ? total - 1 : here.row, all ? here.col : order.length - 1, e.shiftKey),
      Enter: () => at && (opened = !opened),
      Escape: () => {
        if (opened) opened = false;
        else at = corner = undefined;
      },
    };
    if (all && e.key === 'c' && at) {
      copy();
    } else if ((all && e.key !== 'Home' && e.key !== 'End') || !moves[e.key] || (e.key === 'Escape' && !at)) {
      return;
    } else moves[e.key]!();
    e.preventDefault();
    e.stopPropagation();
  }
  function sortBy(falling: boolean) {
    sorting = sorting?.column === chosen && sorting.falling === falling ? undefined : { column: chosen, falling };
    at = corner = undefined;
  }
  function pin(name: string) {
    pinned = pinned.includes(name) ? pinned.filter((n) => n !== name) : [...pinned, name];
  }
  function resize(e: PointerEvent, k: number) {
    const handle = e.currentTarget as HTMLElement;
    const [x, w, name] = [e.clientX, widthOf(k), columns[k]!.name];
    handle.setPointerCapture(e.pointerId);
    handle.onpointermove = (m) => (widths = { ...widths, [name]: Math.max(36, w + m.clientX - x) });
    handle.onpointerup = () => (handle.onpointermove = null);
    e.preventDefault();
    e.stopPropagation();
  }
  function pasted(e: ClipboardEvent, row: number, k: number) {
    const text = e.clipboardData?.getData('text') ?? '';
    if (!paste || !/[\t\n]/.test(text)) return;
    e.preventDefault();
    paste(row, k, fromTable(text));
  }
  const line = (v: string) => v.replace(/\r?\n/g, ' ⏎ ');
</script>

{#snippet cell(row: number, i: number, k: number, keptAt: number)}
  {@const c = columns[k]!}
  {@const v = rows[row]?.[k] ?? null}
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_interactive_supports_focus -->
  <div
    role="gridcell"
    class="cell"
    class:r={isNumber(c.type)}
    class:new={changed?.(row, k)}
    class:lit={lit.includes(c.name)}
    class:marked={isMarked(i, k)}
    class:kept={keptAt >= 0}
    style:left={keptAt >= 0 ? `${offset(keptAt)}px` : undefined}
    id={at && at.row === i && order[at.col] === k ? `${uid}-cell` : undefined}
    aria-selected={isMarked(i, k)}
    aria-colindex={k + 1}
    onclick={(e) => stand(i, order.indexOf(k), e.shiftKey)}
    ondblclick={() => (opened = !edit)}
  >
    {#if edit}<input
        value={v ?? ''}
        placeholder="∅"
        aria-label="{c.name}, row {row + 1}"
        class:r={isNumber(c.type)}
        onpaste={(e) => pasted(e, row, k)}
        onchange={(e) => edit(row, k, e.currentTarget.value === '' ? null : e.currentTarget.value)}
      />{:else if v === null}<span class="null">∅</span>{:else}{line(v)}{/if}
  </div>
{/snippet}

{#snippet heading(k: number, keptAt: number)}
  {@const c = columns[k]!}
  <div
    role="columnheader"
    class="headcell"
    class:r={isNumber(c.type)}
    class:kept={keptAt >= 0}
    class:on={chosen === c.name}
    class:lit={lit.includes(c.name)}
    style:left={keptAt >= 0 ? `${offset(keptAt)}px` : undefined}
    aria-colindex={k + 1}
    aria-sort={sorting?.column === c.name ? (sorting.falling ? 'descending' : 'ascending') : undefined}
  >
    <button
      title={c.description || c.from || `Column ${c.name}`}
      aria-pressed={chosen === c.name}
      onclick={() => (chosen = chosen === c.name ? '' : c.name)}
      ><b>{c.name}</b><small
        >{c.type}{#if sorting?.column === c.name}&#32;· {sorting.falling
            ? 'falling'
            : 'rising'}{/if}{#if filtered.includes(c.name)}&#32;· filtered{/if}</small
      ></button
    >
    <!-- svelte-ignore a11y_no_static_element_interactions -->
    <span
      class="edge"
      title="Drag to make the column wider or narrower"
      onpointerdown={(e) => resize(e, k)}
      ondblclick={() => delete widths[c.name]}
    ></span>
  </div>
{/snippet}

{#if chosenColumn || filtered.length || sorting}
  <div class="strip" role="group" aria-label="How the rows are shown">
    {#if chosenColumn}
      <b><code>{chosenColumn.name}</code></b>
      <button class="plain" aria-pressed={sorting?.column === chosen && !sorting.falling} onclick={() => sortBy(false)}
        >Rising</button
      >
      <button class="plain" aria-pressed={sorting?.column === chosen && sorting.falling} onclick={() => sortBy(true)}
        >Falling</button
      >
      <label
        >show <input
          class="field"
          placeholder="part, =, <, >, ∅, !"
          aria-label="Show rows whose {chosenColumn.name} is"
          bind:value={() => filters[chosen] ?? '', (v) => (filters = { ...filters, [chosen]: v })}
        /></label
      >
      <button class="plain" aria-pressed={pinned.includes(chosen)} onclick={() => pin(chosen)}
        >{pinned.includes(chosen) ? 'Let it move' : 'Keep in view'}</button
      >
      <button
        class="plain"
        aria-label="Narrower"
        onclick={() => (widths = { ...widths, [chosen]: Math.max(36, widthOf(columns.indexOf(chosenColumn)) - 40) })}
        >–</button
      >
      <button
        class="plain"
        aria-label="Wider"
        onclick={() => (widths = { ...widths, [chosen]: widthOf(columns.indexOf(chosenColumn)) + 40 })}>+</button
      >
    {/if}
    {#if places}<span class="note"
        >{#if filtered.length}{count(total)} of {count(rows.length)} rows: {filtered.join(', ')}{:else}in order of {sorting?.column}{/if}</span
      ><button class="plain" onclick={() => ((filters = {}), (sorting = undefined))}>As they come</button>{/if}
    {#if chosenColumn && about}{@render about(chosenColumn)}{/if}
  </div>
{/if}
<div
  class="scroll cells"
  tabindex="0"
  role="grid"
  aria-label={label}
  aria-rowcount={total + 1}
  aria-activedescendant={at ? `${uid}-cell` : undefined}
  aria-colcount={columns.length}
  bind:this={scroller}
  bind:clientHeight={tall}
  bind:clientWidth={wide}
  onscroll={(e) => ([top, left] = [e.currentTarget.scrollTop, e.currentTarget.scrollLeft])}
  onkeydown={key}
>
  <div class="row heads" role="row" aria-rowindex={1} style:grid-template-columns={template}>
    {#each kept as k, n (columns[k]!.name)}{@render heading(k, n)}{/each}<span class="gap"></span>
    {#each drawn as k (columns[k]!.name)}{@render heading(k, -1)}{/each}<span class="gap"></span>
  </div>
  <div style:height="{first * height}px"></div>
  {#each Array.from({ length: Math.max(0, last - first) }, (_, n) => first + n) as i, n (n)}
    {@const row = placeOf(i)}
    <div class="row" role="row" aria-rowindex={i + 2} style:grid-template-columns={template}>
      {#each kept as k, n (columns[k]!.name)}{@render cell(row, i, k, n)}{/each}<span class="gap"></span>
      {#each drawn as k, n (n)}{@render cell(row, i, k, -1)}{/each}<span class="gap"></span>
      {#if remove}<button class="plain" aria-label="Remove row {row + 1}" onclick={() => remove(row)}>×</button>{/if}
    </div>
  {/each}
  <div style:height="{(total - last) * height}px"></div>
  {#if total === 0}<p class="none">{rows.length ? 'No row fits.' : 'No rows.'}</p>{/if}
</div>
{#if standing && !edit}
  <div class="under" aria-live="polite">
    <span class="note">row {count(standing.row + 1)}, <code>{standing.column.name}</code></span>
    {#if !opened}<span class="data value">{standing.value === null ? '∅' : line(standing.value)}</span>{/if}
    <span class="acts">
      <button class="plain" aria-expanded={opened} onclick={() => (opened = !opened)}
        >{opened ? 'Close' : 'All of it'}</button
      >
      <button class="plain" onclick={copy}>Copy</button>
      {#if follow}<button class="plain" onclick={() => follow(standing.row)}>Follow this row</button>{/if}
    </span>
  </div>
  {#if opened}<CellView value={standing.value} />{/if}
{/if}

<style>
  .lit {
    box-shadow:
      inset 1px 0 0 var(--act),
      inset -1px 0 0 var(--act);
  }
  .headcell.lit {
    background: var(--act-bg);
  }
  .cells {
    font: 12px var(--data);
    position: relative;
  }
  .row {
    display: grid;
    width: max-content;
    min-width: 100%;
    height: 25px;
  }
  .heads {
    position: sticky;
    top: 0;
    z-index: 3;
    height: 42px;
    background: var(--raised);
    font-family: var(--text);
  }
  .headcell {
    position: relative;
    border-bottom: 1px solid var(--rule2);
    background: var(--raised);
    min-width: 0;
  }
  .headcell button {
    width: 100%;
    height: 100%;
    border: 0;
    background: none;
    color: inherit;
    font: 12.5px var(--text);
    text-align: inherit;
    padding: 4px 10px 2px;
    cursor: pointer;
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
    display: block;
  }
  .headcell.on {
    box-shadow: inset 0 -2px 0 var(--act);
  }
  .headcell b {
    font-weight: 600;
  }
  .headcell small {
    display: block;
    font-size: 11.5px;
    color: var(--soft);
  }
  .edge {
    position: absolute;
    top: 0;
    right: -3px;
    width: 7px;
    height: 100%;
    cursor: col-resize;
    z-index: 1;
  }
  .cell {
    padding: 0 10px;
    border-bottom: 1px solid var(--rule);
    white-space: pre;
    overflow: hidden;
    text-overflow: ellipsis;
    line-height: 24px;
    min-width: 0;
  }
  .kept {
    position: sticky;
    z-index: 2;
    background: var(--raised);
    border-right: 1px solid var(--rule);
  }
  .gap {
    border-bottom: 1px solid var(--rule);
  }
  .heads .gap {
    border-bottom-color: var(--rule2);
  }
  .r {
    text-align: right;
  }
  .cell.new {
    background: var(--act-bg);
  }
  .cell.marked {
    box-shadow: inset 0 0 0 1px var(--act);
  }
  .null,
  input::placeholder {
    color: var(--faint);
  }
  .cell input {
    font: inherit;
    color: inherit;
    background: none;
    border: 0;
    border-bottom: 1px dotted var(--rule2);
    width: 100%;
    padding: 0;
  }
  .none {
    padding: 14px 18px;
    color: var(--soft);
  }
  .strip,
  .under {
    display: flex;
    flex-wrap: wrap;
    gap: 3px 14px;
    align-items: baseline;
    padding: 5px 14px;
    font-size: 12.5px;
    border-bottom: 1px solid var(--rule);
    flex: none;
  }
  .strip .field {
    width: 130px;
    font-size: 12.5px;
  }
  .strip .plain[aria-pressed='true'] {
    font-weight: 650;
    text-decoration: underline;
  }
  .under {
    flex-wrap: nowrap;
    border-bottom: 0;
    border-top: 1px solid var(--rule2);
    background: var(--sunk);
  }
  .under .value {
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
    font-size: 12px;
    min-width: 0;
  }
  .under .note {
    white-space: nowrap;
  }
  .under .acts {
    margin-left: auto;
    display: flex;
    gap: 14px;
    white-space: nowrap;
  }
</style>
