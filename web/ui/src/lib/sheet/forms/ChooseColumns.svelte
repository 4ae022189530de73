<script lang="ts">
  import { choiceLines, moved, put, samples, type Chosen, type FormProps, type Line } from './settings';

  /** Choose columns as a table: a line a column, with what its values look like;
   * those that are not taken stand below, ready to be. */
  let { step, input, tried, change, suggest, problems, readonly }: FormProps = $props();

  const taken = $derived((step.settings.columns as Chosen[] | undefined) ?? []);
  const keepsOthers = $derived(step.settings.others === 'keep');
  const lines = $derived(choiceLines(taken, input));
  let find = $state('');
  const shown = $derived(
    find.trim()
      ? lines.filter((l) => `${l.take} ${l.as ?? ''}`.toLowerCase().includes(find.trim().toLowerCase()))
      : lines,
  );
  const types = $derived(suggest('columns.type'));
  const rows = $derived(tried?.before?.[0]);
  const needsFormat = (l: Line) =>
    l.format !== undefined || (/^(date|timestamp)/.test(l.type ?? '') && l.known?.type === 'text');

  const set = (list: Chosen[]) => change({ ...step.settings, columns: list });
  const alter = (at: number, name: keyof Chosen, v: string) =>
    set(
      taken.map((c, i) =>
        i === at ? (put(c as unknown as Record<string, unknown>, name, v, ['take']) as unknown as Chosen) : c,
      ),
    );
  const take = (l: Line) => set([...taken, { take: l.take }]);
  const leave = (at: number) => set(taken.filter((_, i) => i !== at));
  const others = $derived(lines.filter((l) => l.at < 0));
  let words = $state('');
  const id = $props.id();
</script>

<div class="bar">
  <span class="note">{taken.length} taken, {others.length} {keepsOthers ? 'kept as they are' : 'left out'}</span>
  {#if !readonly}
    {#if others.length}<button class="plain" onclick={() => set([...taken, ...others.map((l) => ({ take: l.take }))])}
        >Take all {others.length}</button
      >{/if}
    <label
      ><input
        type="checkbox"
        checked={keepsOthers}
        onchange={(e) => change(put(step.settings, 'others', e.currentTarget.checked ? 'keep' : ''))}
      /> keep the others behind these</label
    >
    {#if lines.length > 12}<input
        class="field find"
        placeholder="find a column"
        aria-label="find a column"
        bind:value={find}
      />{/if}
  {/if}
</div>
<datalist id="{id}-types"
  >{#each types as t (t)}<option value={t}></option>{/each}</datalist
>
<div class="table" role="table" aria-label="columns">
  <div class="tr th" role="row">
    <span role="columnheader">column</span><span role="columnheader">becomes</span><span role="columnheader">type</span
    ><span role="columnheader">values</span><span role="columnheader" aria-label="order"></span>
  </div>
  {#each shown as l (l.at >= 0 ? `${l.at} ${l.take}` : l.take)}
    <div class="tr" role="row" class:out={l.at < 0}>
      <span role="cell"
        ><label class="name" title={l.take}
          ><input
            type="checkbox"
            disabled={readonly}
            aria-label="take {l.take}"
            checked={l.at >= 0}
            onchange={() => (l.at >= 0 ? leave(l.at) : take(l))}
          /> <code>{l.take}</code></label
        ></span
      >
      {#if l.at >= 0}
        <span role="cell"
          ><input
            class="field data"
            aria-label="new name of {l.take}"
            placeholder={l.known ? l.take : ''}
            {readonly}
            value={l.as ?? ''}
            oninput={(e) => alter(l.at, 'as', e.currentTarget.value)}
          /></span
        >
        <span role="cell" class="type"
          ><input
            class="field data"
            aria-label="type of {l.take}"
            placeholder={l.known?.type ?? ''}
            list="{id}-types"
            {readonly}
            value={l.type ?? ''}
            oninput={(e) => alter(l.at, 'type', e.currentTarget.value)}
          />{#if needsFormat(l)}<input
              class="field data"
              aria-label="form of {l.take}"
              placeholder="as YYYY-MM-DD"
              title="How dates in text are written, such as DD.MM.YYYY"
              {readonly}
              value={l.format ?? ''}
              oninput={(e) => alter(l.at, 'format', e.currentTarget.value)}
            />{/if}{#if l.type}<select
              class="field"
              aria-label="where {l.take} does not fit"
              disabled={readonly}
              value={l.bad ?? ''}
              onchange={(e) => alter(l.at, 'bad', e.currentTarget.value)}
              ><option value="">else set aside</option><option value="use null">else null</option></select
            >{/if}</span
        >
      {:else}
        <span role="cell" class="note">{keepsOthers ? 'kept' : 'left out'}</span><span role="cell" class="note data"
          >{l.known?.type}</span
        >
      {/if}
      <span role="cell" class="eg" title={samples(rows, l.take, 8).join(' · ')}
        >{samples(rows, l.take).join(' · ')}</span
      >
      <span role="cell" class="tools">
        {#if l.at >= 0 && !readonly && !find}
          <button
            class="plain"
            title="up"
            aria-label="move {l.take} up"
            disabled={l.at === 0}
            onclick={() => set(moved(taken, l.at, -1))}>↑</button
          >
          <button
            class="plain"
            title="down"
            aria-label="move {l.take} down"
            disabled={l.at === taken.length - 1}
            onclick={() => set(moved(taken, l.at, 1))}>↓</button
          >
        {/if}
      </span>
      {#each ['take', 'as', 'type', 'format'] as k (k)}
        {#if l.at >= 0 && problems[`columns[${l.at}].${k}`]}<p class="bad" role="alert">
            {problems[`columns[${l.at}].${k}`]}
          </p>{/if}
      {/each}
      {#if l.at >= 0 && problems[`columns[${l.at}]`]}<p class="bad" role="alert">{problems[`columns[${l.at}]`]}</p>{/if}
    </div>
  {/each}
</div>
{#if !readonly}
  <label class="words"
    ><span class="note">or by words</span><input
      class="field data"
      aria-label="take columns by words"
      placeholder="like m_*, of type date, all but remarks"
      bind:value={words}
      onkeydown={(e) => {
        if (e.key !== 'Enter' || !words.trim()) return;
        set([...taken, { take: words.trim() }]);
        words = '';
      }}
    /></label
  >
{/if}
{#if problems.columns}<p class="bad" role="alert">{problems.columns}</p>{/if}

<style>
  .bar {
    display: flex;
    gap: 4px 16px;
    align-items: baseline;
    flex-wrap: wrap;
    font-size: 13px;
  }
  .find {
    width: 130px;
    margin-left: auto;
  }
  .table {
    max-height: 236px;
    overflow: auto;
    margin-top: 4px;
    border-top: 1px solid var(--rule);
  }
  .tr {
    display: grid;
    grid-template-columns: minmax(96px, 1.3fr) minmax(70px, 1fr) minmax(96px, 1.25fr) minmax(60px, 1.3fr) 40px;
    gap: 0 10px;
    align-items: baseline;
    padding: 1px 0;
    border-bottom: 1px solid var(--rule);
  }
  .th {
    position: sticky;
    top: 0;
    background: var(--raised);
    color: var(--soft);
    font-size: 12px;
    z-index: 1;
  }
  .tr .field {
    border-bottom-color: transparent;
  }
  .tr .field:hover,
  .tr .field:focus {
    border-bottom-color: var(--rule2);
  }
  .out code {
    color: var(--soft);
  }
  .name {
    display: flex;
    gap: 7px;
    align-items: baseline;
    min-width: 0;
  }
  .name code,
  .eg {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .eg {
    font: 12px var(--data);
    color: var(--soft);
  }
  .type {
    display: flex;
    flex-wrap: wrap;
    gap: 0 6px;
  }
  .type input {
    flex: 1 1 74px;
    width: 74px;
  }
  .type select {
    flex: 1 1 84px;
    width: auto;
    font-size: 12px;
    color: var(--soft);
  }
  .tools {
    display: flex;
    gap: 6px;
    justify-content: flex-end;
  }
  .tools .plain:disabled {
    color: var(--faint);
    cursor: default;
  }
  .bad {
    grid-column: 1 / -1;
    margin: 1px 0 2px;
    font-size: 12.5px;
  }
  .words {
    display: flex;
    gap: 10px;
    align-items: baseline;
    margin-top: 4px;
  }
  .words .note {
    white-space: nowrap;
  }
</style>
