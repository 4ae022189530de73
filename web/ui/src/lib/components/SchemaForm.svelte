<script lang="ts" module>
  /** The part of JSON Schema that settings use. */
  export interface Schema {
    type?: string;
    title?: string;
    description?: string;
    format?: string;
    enum?: string[];
    /** What holds when nothing is chosen, in words. */
    default?: string;
    properties?: Record<string, Schema>;
    required?: string[];
    items?: Schema;
  }
</script>

<script lang="ts">
  import { tick } from 'svelte';

  import CodeField from '../code/CodeField.svelte';
  import { wordsHere } from '../code/words';
  import ListTools from './ListTools.svelte';
  import ColumnWords from './ColumnWords.svelte';
  import Self from './SchemaForm.svelte';

  /** A form drawn from a JSON Schema. Lists of records are tables, lists of words
   * are lines; suggest gives words for a field by its path. */
  let {
    schema,
    value,
    change,
    path = '',
    suggest = () => [],
    problems = {},
    kept = [],
    only,
    without = [],
    readonly = false,
  }: {
    schema: Schema;
    value: Record<string, unknown>;
    change: (v: Record<string, unknown>) => void;
    path?: string;
    suggest?: (path: string, format?: string) => string[];
    problems?: Record<string, string>;
    kept?: string[];
    /** The settings shown, where others have a form of their own. */
    only?: string[];
    without?: string[];
    readonly?: boolean;
  } = $props();

  const id = $props.id();
  let form = $state<HTMLElement>();
  const words = wordsHere();
  const mine = $derived(
    Object.entries(schema.properties ?? {}).filter(([k]) => (!only || only.includes(k)) && !without.includes(k)),
  );
  // Settings that have their usual value stand in one line, to be opened; a short form has them all.
  let opened = $state<string[]>([]);
  const folds = (name: string, s: Schema) =>
    words !== undefined &&
    !s.enum && // a choice tells by itself what it is
    !['columns', 'by'].includes(name) &&
    Object.keys(schema.properties ?? {}).length > 3 &&
    !schema.required?.includes(name) &&
    value[name] === undefined &&
    !opened.includes(name) &&
    problems[at(name)] === undefined;
  async function open(name: string, s: Schema) {
    opened = [...opened, name];
    if (s.type === 'object') set(name, {});
    if (s.type === 'boolean') set(name, true);
    if (s.type === 'array' && s.items?.type === 'object')
      set(name, [Object.fromEntries((s.items.required ?? []).map((k) => [k, '']))]);
    await tick();
    form
      ?.querySelector<HTMLElement>(
        `[data-setting="${CSS.escape(at(name))}"] :is(input,select,textarea,button,.cm-content)`,
      )
      ?.focus();
  }
  const fields = $derived(mine.filter(([k, s]) => !folds(k, s)));
  const folded = $derived(mine.filter(([k, s]) => folds(k, s)));
  const at = (name: string) => (path ? `${path}.${name}` : name);

  /** set changes one setting; an empty one that may be left out is left out. */
  function set(name: string, v: unknown) {
    const next = { ...value, [name]: v };
    const optional = !schema.required?.includes(name);
    if (optional && (v === '' || v === undefined || v === false || (Array.isArray(v) && v.length === 0)))
      delete next[name];
    change(next);
  }
  const rows = (name: string) => (value[name] as Record<string, unknown>[] | undefined) ?? [];
  const listOf = (name: string) => (value[name] as string[] | undefined) ?? [];
  const replace = <T,>(list: T[], i: number, v: T) => list.map((x, k) => (k === i ? v : x));
  const move = <T,>(list: T[], i: number, by: number) => {
    const next = [...list];
    const [x] = next.splice(i, 1);
    next.splice(Math.max(0, Math.min(list.length - 1, i + by)), 0, x!);
    return next;
  };
  const text = (v: unknown) => (v === undefined || v === null ? '' : String(v));
  const grow = (el: HTMLTextAreaElement) => {
    const fit = () => {
      el.style.height = '0';
      el.style.height = `${el.scrollHeight + 2}px`;
    };
    fit();
    el.addEventListener('input', fit);
    return () => el.removeEventListener('input', fit);
  };
  /** A record with many fields, or fields that hold more, is a form of its own; others are a line of a table. */
  const wide = (s: Schema) => {
    const fields = Object.values(s.properties ?? {});
    return fields.length > 5 || fields.some((f) => f.type === 'array' || f.type === 'object');
  };
  const choices = (s: Schema, p: string) => (s.enum ? [] : suggest(p, s.format));
</script>

{#snippet single(s: Schema, p: string, v: unknown, put: (v: unknown) => void, label: string)}
  {@const list = choices(s, p)}
  {#if s.enum}
    <select
      class="field"
      aria-label={label}
      disabled={readonly}
      value={text(v)}
      onchange={(e) => put(e.currentTarget.value)}
    >
      <option value="">{text(v) ? '' : `${s.default ?? s.enum[0]}`}</option>
      {#each s.enum as o (o)}<option value={o}>{o}</option>{/each}
    </select>
  {:else if s.type === 'boolean'}
    <input
      type="checkbox"
      aria-label={label}
      disabled={readonly}
      checked={v === true}
      onchange={(e) => put(e.currentTarget.checked)}
    />
  {:else if s.type === 'integer' || s.type === 'number'}
    <input
      class="field data"
      type="number"
      step="any"
      aria-label={label}
      {readonly}
      value={text(v)}
      oninput={(e) => put(e.currentTarget.value === '' ? undefined : Number(e.currentTarget.value))}
    />
  {:else if words && ['sql', 'query', 'script'].includes(s.format ?? '')}
    <CodeField value={text(v)} change={put} {label} language={s.format as 'sql' | 'query' | 'script'} {readonly} />
  {:else if ['long text', 'secret text'].includes(s.format ?? '')}
    <textarea
      class="field data"
      rows={text(v) ? 5 : 1}
      spellcheck="false"
      autocomplete="off"
      aria-label={label}
      placeholder={kept.includes(p) ? 'kept; type to replace it' : ''}
      {readonly}
      value={text(v)}
      oninput={(e) => put(e.currentTarget.value)}></textarea>
  {:else if ['sql', 'query', 'script', 'rows'].includes(s.format ?? '')}
    <textarea
      class="field data"
      rows={s.format === 'script' || s.format === 'rows' ? 5 : 1}
      spellcheck="false"
      aria-label={label}
      {readonly}
      {@attach grow}
      value={text(v)}
      oninput={(e) => put(e.currentTarget.value)}></textarea>
  {:else if ['files', 'tables', 'replies', 'layout'].includes(s.format ?? '') && list.length}
    <select
      class="field"
      aria-label={label}
      disabled={readonly}
      value={text(v)}
      onchange={(e) => put(e.currentTarget.value)}
    >
      <option value="">choose…</option>
      {#each list as o (o)}<option value={o}>{o}</option>{/each}
      {#if text(v) && !list.includes(text(v))}<option value={text(v)}>{text(v)} (not there)</option>{/if}
    </select>
  {:else}
    <input
      class="field"
      class:data={s.format !== 'password'}
      type={s.format === 'password' ? 'password' : 'text'}
      autocomplete={s.format === 'password' ? 'new-password' : 'off'}
      spellcheck="false"
      placeholder={kept.includes(p) ? 'kept; type to replace it' : ''}
      list={list.length ? `${id}-${p}` : undefined}
      aria-label={label}
      {readonly}
      value={text(v)}
      oninput={(e) => put(e.currentTarget.value)}
    />
    {#if list.length}
      <datalist id="{id}-{p}">
        {#each list as o (o)}<option value={o}></option>{/each}
      </datalist>
    {/if}
  {/if}
{/snippet}

{#snippet tools(name: string, label: string, i: number)}
  {#if !readonly}<ListTools
      what="{label} {i + 1}"
      up={() => set(name, move(rows(name), i, -1))}
      down={() => set(name, move(rows(name), i, 1))}
      remove={() =>
        set(
          name,
          rows(name).filter((_, k) => k !== i),
        )}
    />{:else}<span></span>{/if}
{/snippet}

{#snippet more(name: string, s: Schema, what: string)}
  {#if !readonly}
    <button
      class="plain"
      onclick={() => set(name, [...rows(name), Object.fromEntries((s.items?.required ?? []).map((k) => [k, '']))])}
      >Add {what}</button
    >
  {/if}
{/snippet}

<div class="set" class:inner={path !== ''} bind:this={form}>
  {#each fields as [name, s] (name)}
    {@const p = at(name)}
    {@const label = s.title ?? name}
    <span class="what" title={s.description}>{label}</span>
    <div class="value" data-setting={p}>
      {#if s.type === 'array' && s.items?.type === 'object' && wide(s.items)}
        {#each rows(name) as row, i (i)}
          <div class="record" role="group" aria-label="{label} {i + 1}">
            <Self
              schema={s.items}
              value={row}
              change={(v) => set(name, replace(rows(name), i, v))}
              path="{p}[{i}]"
              {suggest}
              {problems}
              {readonly}
            />
            {@render tools(name, label, i)}
            {#if problems[`${p}[${i}]`]}<p class="bad" role="alert">{problems[`${p}[${i}]`]}</p>{/if}
          </div>
        {/each}
        {@render more(name, s, 'one')}
      {:else if s.type === 'array' && s.items?.type === 'object'}
        {@const cols = Object.entries(s.items.properties ?? {})}
        <div class="table" role="group" aria-label={label}>
          {#if rows(name).length}
            <div
              class="tr th"
              style:grid-template-columns="{cols.map(([, c]) => (c.format === 'sql' ? '3fr' : '1.4fr')).join(' ')} 62px"
            >
              {#each cols as [k, c] (k)}<span title={c.description}>{c.title ?? k}</span>{/each}<span></span>
            </div>
          {/if}
          {#each rows(name) as row, i (i)}
            <div
              class="tr"
              style:grid-template-columns="{cols.map(([, c]) => (c.format === 'sql' ? '3fr' : '1.4fr')).join(' ')} 62px"
            >
              {#each cols as [k, c] (k)}
                {@render single(
                  c,
                  `${p}.${k}`,
                  row[k],
                  (v) => {
                    const next = { ...row, [k]: v };
                    if ((v === '' || v === undefined) && !s.items?.required?.includes(k)) delete next[k];
                    set(name, replace(rows(name), i, next));
                  },
                  `${label} ${i + 1} ${c.title ?? k}`,
                )}
              {/each}
              {@render tools(name, label, i)}
              {#each cols as [k] (k)}
                {#if problems[`${p}[${i}].${k}`]}<p class="bad" role="alert">{problems[`${p}[${i}].${k}`]}</p>{/if}
              {/each}
              {#if problems[`${p}[${i}]`]}<p class="bad" role="alert">{problems[`${p}[${i}]`]}</p>{/if}
            </div>
          {/each}
          {@render more(name, s, label === 'on' ? 'a key' : 'one')}
        </div>
      {:else if s.type === 'array' && s.items?.enum}
        <ColumnWords
          columns={s.items.enum}
          value={listOf(name)}
          change={(list) => set(name, list)}
          {label}
          closed
          {readonly}
        />
      {:else if s.type === 'array' && words && choices(s.items ?? {}, p).length}
        <ColumnWords
          columns={choices(s.items ?? {}, p)}
          value={listOf(name)}
          change={(list) => set(name, list)}
          {label}
          {readonly}
        />
      {:else if s.type === 'array'}
        <div class="words" role="group" aria-label={label}>
          {#each listOf(name) as w, i (i)}
            <span class="wordline">
              {@render single(
                s.items ?? {},
                p,
                w,
                (v) => set(name, replace(listOf(name), i, String(v ?? ''))),
                `${label} ${i + 1}`,
              )}
              {#if !readonly}
                <button
                  class="plain"
                  aria-label="remove {label} {i + 1}"
                  onclick={() =>
                    set(
                      name,
                      listOf(name).filter((_, k) => k !== i),
                    )}>×</button
                >
              {/if}
            </span>
            {#if problems[`${p}[${i}]`]}<p class="bad" role="alert">{problems[`${p}[${i}]`]}</p>{/if}
          {/each}
          {#if !readonly}<button class="plain" onclick={() => set(name, [...listOf(name), ''])}>Add one</button>{/if}
        </div>
      {:else if s.type === 'object'}
        {#if value[name] && typeof value[name] === 'object'}
          <Self
            schema={s}
            value={value[name] as Record<string, unknown>}
            change={(v) => set(name, v)}
            path={p}
            {suggest}
            {problems}
            {readonly}
          />
          {#if !readonly}<button class="plain" onclick={() => set(name, undefined)}>Leave it out again</button>{/if}
        {:else}
          <span class="note">{s.description ?? 'as usual'}</span>
          {#if !readonly && name !== 'dialect'}<button class="plain" onclick={() => set(name, {})}>Set it</button>{/if}
        {/if}
      {:else}
        {@render single(s, p, value[name], (v) => set(name, v), label)}
      {/if}
      {#if problems[p]}<p class="bad" role="alert">{problems[p]}</p>{/if}
    </div>
  {/each}
  {#if folded.length}
    <span class="what">also</span>
    <div class="also">
      {#each folded as [name, s] (name)}
        <button class="plain" title={s.description} disabled={readonly} onclick={() => open(name, s)}
          >{s.title ?? name}</button
        >
      {/each}
    </div>
  {/if}
</div>

<style>
  .set {
    display: grid;
    grid-template-columns: 112px minmax(0, 1fr);
    gap: 7px 10px;
    align-items: baseline;
    font-size: 13.5px;
  }
  .inner {
    grid-template-columns: 82px minmax(0, 1fr);
  }
  .what {
    color: var(--soft);
  }
  .value {
    min-width: 0;
  }
  .value > select.field {
    width: auto;
    min-width: 130px;
  }
  .also {
    display: flex;
    flex-wrap: wrap;
    gap: 2px 14px;
  }
  .also .plain {
    font-weight: 400;
    font-size: 13px;
  }
  .also .plain:disabled {
    color: var(--soft);
    cursor: default;
    text-decoration: none;
  }
  .tr {
    display: grid;
    gap: 0 10px;
    align-items: end;
    padding: 1px 0;
  }
  .th {
    color: var(--soft);
    font-size: 12px;
  }
  .tr .bad {
    grid-column: 1 / -1;
  }
  .record {
    border-left: 2px solid var(--rule);
    padding: 2px 0 4px 10px;
    margin-bottom: 6px;
  }
  .wordline {
    display: inline-flex;
    align-items: baseline;
    gap: 5px;
    width: 31%;
    margin-right: 2%;
  }
  textarea {
    resize: none;
    overflow: hidden;
    display: block;
  }
  .bad {
    margin: 3px 0 2px;
    font-size: 12.5px;
  }
</style>
