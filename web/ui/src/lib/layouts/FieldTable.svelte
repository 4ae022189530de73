<script lang="ts">
  import type { LayoutField } from '../api/client';
  import { inOrder } from './layout';

  /** The fields of a record type as a table that is typed into. */
  let {
    fields,
    chosen,
    readonly,
    change,
    choose,
    read,
  }: {
    fields: LayoutField[];
    chosen: string;
    readonly: boolean;
    change: (fields: LayoutField[]) => void;
    choose: (name: string) => void;
    /** The first values that the layout reads, by field. */
    read: Record<string, string[]>;
  } = $props();

  const signs = ['', 'leading', 'trailing', 'overpunch', 'leading overpunch'];
  const stores = ['', 'packed', 'binary'];
  function put(f: LayoutField, part: Partial<LayoutField>) {
    const next = { ...f, ...part };
    for (const k of ['scale', 'sign', 'store', 'fill', 'dates', 'note'] as const) if (!next[k]) delete next[k];
    change(inOrder(fields.map((x) => (x.name === f.name ? next : x))));
    if (part.name) choose(part.name);
  }
  const numeric = (t: string) => /^(int|float|decimal)/.test(t);
  const temporal = (t: string) => /^(date|time|timestamp|timestamptz)$/.test(t);
</script>

<table class="lines">
  <thead>
    <tr>
      <th>field</th><th>start</th><th>length</th><th>type</th><th>decimals</th><th>sign</th><th>stored</th><th>fill</th
      ><th>written as</th><th>reads</th><th></th>
    </tr>
  </thead>
  <tbody>
    {#each inOrder(fields) as f (f.name)}
      <tr class:on={f.name === chosen} onfocusin={() => choose(f.name)}>
        <td
          ><input
            class="field data"
            aria-label="Name of {f.name}"
            value={f.name}
            {readonly}
            onchange={(e) => {
              const name = e.currentTarget.value.trim();
              if (name && !fields.some((x) => x.name === name)) put(f, { name });
              else e.currentTarget.value = f.name;
            }}
          /></td
        >
        <td
          ><input
            class="field data short"
            type="number"
            min="1"
            aria-label="Start of {f.name}"
            value={f.start}
            {readonly}
            onchange={(e) => put(f, { start: Math.max(1, Number(e.currentTarget.value)) })}
          /></td
        >
        <td
          ><input
            class="field data short"
            type="number"
            min="1"
            aria-label="Length of {f.name}"
            value={f.length}
            {readonly}
            onchange={(e) => put(f, { length: Math.max(1, Number(e.currentTarget.value)) })}
          /></td
        >
        <td
          ><input
            class="field data"
            list="layout-types"
            aria-label="Type of {f.name}"
            value={f.type}
            {readonly}
            onchange={(e) => put(f, { type: e.currentTarget.value.trim() })}
          /></td
        >
        <td
          >{#if numeric(f.type)}<input
              class="field data short"
              type="number"
              min="0"
              aria-label="Decimals of {f.name}"
              value={f.scale ?? ''}
              {readonly}
              onchange={(e) => {
                const scale = Number(e.currentTarget.value);
                // Decimals that are not written make the value a decimal.
                put(f, { scale, ...(scale > 0 && f.type === 'int' ? { type: `decimal(18,${scale})` } : {}) });
              }}
            />{/if}</td
        >
        <td
          >{#if numeric(f.type)}<select
              class="field"
              aria-label="Sign of {f.name}"
              value={f.sign ?? ''}
              disabled={readonly}
              onchange={(e) => put(f, { sign: e.currentTarget.value as LayoutField['sign'] })}
            >
              {#each signs as s (s)}<option value={s}>{s || 'none, or before'}</option>{/each}
            </select>{/if}</td
        >
        <td
          >{#if numeric(f.type)}<select
              class="field"
              aria-label="Store of {f.name}"
              value={f.store ?? ''}
              disabled={readonly}
              onchange={(e) => put(f, { store: e.currentTarget.value as LayoutField['store'] })}
            >
              {#each stores as s (s)}<option value={s}>{s || 'text'}</option>{/each}
            </select>{/if}</td
        >
        <td
          ><input
            class="field data one"
            maxlength="1"
            aria-label="Fill of {f.name}"
            value={f.fill ?? ''}
            {readonly}
            onchange={(e) => put(f, { fill: e.currentTarget.value })}
          /></td
        >
        <td
          >{#if temporal(f.type)}<input
              class="field data"
              aria-label="Form of {f.name}"
              placeholder="YYYYMMDD"
              value={f.dates ?? ''}
              {readonly}
              onchange={(e) => put(f, { dates: e.currentTarget.value })}
            />{/if}</td
        >
        <td class="data reads" title={read[f.name]?.join(', ')}>{read[f.name]?.slice(0, 2).join(', ') ?? ''}</td>
        <td
          >{#if !readonly}<button
              class="plain"
              aria-label="Remove {f.name}"
              onclick={() => change(fields.filter((x) => x.name !== f.name))}>×</button
            >{/if}</td
        >
      </tr>
    {:else}
      <tr><td colspan="11" class="note">No field yet: draw one over the records above.</td></tr>
    {/each}
  </tbody>
</table>
<datalist id="layout-types">
  {#each ['text', 'int', 'decimal(18,2)', 'float', 'date', 'time', 'timestamp', 'bool'] as t (t)}<option value={t}
    ></option>{/each}
</datalist>

<style>
  td {
    padding: 2px 5px;
  }
  th {
    padding-left: 5px;
    padding-right: 5px;
  }
  .short {
    width: 54px;
  }
  .one {
    width: 26px;
  }
  .reads {
    max-width: 130px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 12px;
  }
  input[list] {
    width: 104px;
  }
  td:first-child input {
    width: 96px;
  }
  select {
    min-width: 76px;
    width: 100%;
    font-size: 12.5px;
  }
</style>
