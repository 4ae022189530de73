<script lang="ts">
  import CodeField from '../../code/CodeField.svelte';
  import { quoteName } from '../../code/words';
  import SchemaForm from '../../components/SchemaForm.svelte';
  import { aggregateFor, freeColumn, type FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** Grouping, pivoting, windows and derived columns: values computed from the columns, put
   * together by choosing what of which column, or written by hand. */
  let props: FormProps = $props();
  const { step, input, change, suggest, problems, readonly } = $derived(props);

  interface Value {
    name: string;
    value: string;
    each?: string[];
  }
  const single = $derived(step.kind === 'pivot');
  const list = $derived(step.kind === 'derive columns' ? 'columns' : 'values');
  const values = $derived((step.settings[list] as Value[] | undefined) ?? []);
  const set = (v: Value[]) => change({ ...step.settings, [list]: v });
  const alter = (i: number, name: 'name' | 'value', v: string) =>
    set(values.map((x, k) => (k === i ? { ...x, [name]: v } : x)));
  const eachOf = (i: number, each: string[] | undefined) =>
    set(values.map((x, k) => (k === i ? { name: x.name, value: x.value, ...(each ? { each } : {}) } : x)));

  const aggregates = ['sum', 'avg', 'min', 'max', 'median', 'different', 'count', 'rows'];
  const windows = ['running sum', 'row number', 'rank', 'lag', 'lead', 'sum', 'avg', 'min', 'max'];
  const offered = $derived(step.kind === 'derive columns' ? [] : step.kind === 'window' ? windows : aggregates);
  const lone = new Set(['rows', 'row number', 'rank']); // those of no column
  let what = $state('');
  let of = $state('');
  const chosen = $derived(what || offered[0] || '');
  const numbers = $derived(input.filter((c) => /^(int|decimal|float)/.test(c.type)));
  const column = $derived(of || (/sum|avg|median/.test(chosen) ? numbers : input)[0]?.name || '');
  function compose(): Value {
    const v =
      chosen === 'row number' || chosen === 'rank'
        ? { name: chosen.replace(' ', '_'), value: `${chosen.replace(' ', '_')}()` }
        : chosen === 'running sum'
          ? { name: `${column}_so_far`, value: `sum(${quoteName(column)})` }
          : aggregateFor(chosen, column, quoteName);
    return {
      ...v,
      name: freeColumn(
        v.name,
        values.map((x) => x.name),
      ),
    };
  }
  function add() {
    if (single) change({ ...step.settings, value: compose().value });
    else set([...values, compose()]);
  }
  const before = $derived(
    step.kind === 'window'
      ? ['by', 'order', 'frame']
      : step.kind === 'pivot'
        ? ['by', 'column', 'value']
        : step.kind === 'group'
          ? ['by']
          : [],
  );
</script>

{#if before.length}
  <Rest {props} only={before} />
{/if}
<div class="values">
  {#if !single}
    <span class="what">{step.kind === 'derive columns' ? 'columns' : 'values'}</span>
    <div class="table" role="group" aria-label={list} data-setting={list}>
      {#each values as v, i (i)}
        <div class="line">
          <input
            class="field data"
            aria-label="{list} {i + 1} name"
            placeholder="name"
            {readonly}
            value={v.name}
            oninput={(e) => alter(i, 'name', e.currentTarget.value)}
          />
          <span class="is">=</span>
          <span class="expr"
            ><CodeField
              value={v.value}
              change={(t) => alter(i, 'value', t)}
              label="{list} {i + 1} value"
              hint="an expression in SQL"
              {readonly}
            /></span
          >
          <span class="tools">
            {#if !readonly}
              {#if list === 'columns' && !v.each}<button
                  class="plain"
                  title="Derive it for several columns at once"
                  aria-label="×n, for several columns {i + 1}"
                  onclick={() => eachOf(i, [])}>×n</button
                >{/if}
              <button
                class="plain"
                title="remove"
                aria-label="remove {list} {i + 1}"
                onclick={() => set(values.filter((_, k) => k !== i))}>×</button
              >
            {/if}
          </span>
          {#if v.each}
            <div class="each">
              <span class="note"
                >once for each of these; <code>:this</code> is the column, <code>{'{name}'}</code> its name
                {#if !readonly}<button class="plain" onclick={() => eachOf(i, undefined)}>Only once</button>{/if}</span
              >
              <SchemaForm
                schema={{ properties: { each: { type: 'array', title: 'each', items: { type: 'string' } } } }}
                value={{ each: v.each }}
                change={(s) => eachOf(i, (s.each as string[] | undefined) ?? [])}
                path="columns[{i}]"
                {suggest}
                {problems}
                {readonly}
              />
            </div>
          {/if}
          {#each ['', '.name', '.value'] as part (part)}
            {#if problems[`${list}[${i}]${part}`]}<p class="bad" role="alert">
                {problems[`${list}[${i}]${part}`]}
              </p>{/if}
          {/each}
        </div>
      {/each}
      {#if problems[list]}<p class="bad" role="alert">{problems[list]}</p>{/if}
      {#if !readonly}<button class="plain" onclick={() => set([...values, { name: '', value: '' }])}
          >{values.length ? 'Add one' : 'Write one'}</button
        >{/if}
    </div>
  {/if}
  {#if offered.length && !readonly && input.length}
    <span class="what">{single ? 'or choose' : ''}</span>
    <div class="compose">
      <select class="field" aria-label="what is computed" bind:value={() => chosen, (v) => (what = v)}>
        {#each offered as o (o)}<option value={o}>{o}</option>{/each}
      </select>
      {#if !lone.has(chosen)}
        <span class="note">of</span>
        <select class="field data" aria-label="of which column" bind:value={() => column, (v) => (of = v)}>
          {#each input as c (c.name)}<option value={c.name}>{c.name}</option>{/each}
        </select>
      {/if}
      <button class="plain" onclick={add}>{single ? 'Use it' : 'Add it'}</button>
    </div>
  {/if}
</div>
{#if step.kind === 'pivot'}
  <Rest {props} without={['by', 'column', 'value']} />
{/if}

<style>
  .values {
    display: grid;
    grid-template-columns: 112px minmax(0, 1fr);
    gap: 7px 10px;
    align-items: baseline;
    font-size: 13.5px;
    margin: 7px 0;
  }
  .what {
    color: var(--soft);
  }
  .line {
    display: grid;
    grid-template-columns: minmax(80px, 1fr) 10px minmax(0, 3fr) 48px;
    gap: 0 8px;
    align-items: baseline;
  }
  .is {
    color: var(--soft);
  }
  .expr {
    min-width: 0;
  }
  .tools {
    display: flex;
    gap: 9px;
    justify-content: flex-end;
  }
  .tools .plain {
    font-weight: 400;
    white-space: nowrap;
  }
  .each {
    grid-column: 1 / -1;
    border-left: 2px solid var(--rule);
    padding: 2px 0 4px 10px;
  }
  .compose {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .compose select {
    width: auto;
  }
  .bad {
    grid-column: 1 / -1;
    margin: 1px 0 2px;
    font-size: 12.5px;
  }
</style>
