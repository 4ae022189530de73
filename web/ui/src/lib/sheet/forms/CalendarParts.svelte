<script lang="ts">
  import type { Schema } from '../../components/SchemaForm.svelte';
  import { put, type FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** The parts of a calendar as a list to choose from, each with what it is on
   * one of the days that come in. */
  let props: FormProps = $props();
  const { step, kind, tried, change, problems, readonly } = $derived(props);

  const names = $derived(((kind.schema as Schema).properties?.parts?.items?.enum ?? []) as string[]);
  const parts = $derived((step.settings.parts as string[] | undefined) ?? []);
  const all = $derived(parts.length === 0);
  const prefix = $derived(String(step.settings.prefix ?? ''));
  let day = $state(0);
  const rows = $derived(tried?.after?.rows ?? []);
  const at = (name: string) => (tried?.after?.columns ?? []).findIndex((c) => c.name === name);
  const cell = (name: string) => (at(name) < 0 ? '' : (rows[Math.min(day, rows.length - 1)]?.[at(name)] ?? '∅'));
  const toggle = (name: string) => {
    const next = (all ? names : parts).includes(name)
      ? (all ? names : parts).filter((p) => p !== name)
      : names.filter((n) => n === name || parts.includes(n));
    change(put(step.settings, 'parts', next.length === names.length ? [] : next));
  };
</script>

<Rest {props} without={['parts']} />
<div class="head">
  <span class="note">{all ? 'all parts' : `${parts.length} of ${names.length} parts`}</span>
  {#if !all && !readonly}<button class="plain" onclick={() => change(put(step.settings, 'parts', []))}
      >All of them</button
    >{/if}
  {#if rows.length}
    <span class="note"
      >on <code>{cell(String(step.settings.column))}</code>
      <button class="plain" aria-label="another day" onclick={() => (day = (day + 1) % rows.length)}>another day</button
      ></span
    >
  {/if}
</div>
<div class="parts" role="group" aria-label="parts" data-setting="parts">
  {#each names as name (name)}
    <label title={name}
      ><input
        type="checkbox"
        disabled={readonly}
        aria-label={name}
        checked={all || parts.includes(name)}
        onchange={() => toggle(name)}
      /> <span>{name}</span> <code>{cell(prefix + name)}</code></label
    >
  {/each}
</div>
{#if problems.parts}<p class="bad" role="alert">{problems.parts}</p>{/if}

<style>
  .head {
    display: flex;
    gap: 14px;
    align-items: baseline;
    margin-top: 7px;
  }
  .parts {
    columns: 3;
    column-gap: 20px;
    max-height: 190px;
    overflow: auto;
    font-size: 12.5px;
  }
  label {
    display: flex;
    gap: 7px;
    align-items: baseline;
    break-inside: avoid;
    border-bottom: 1px solid var(--rule);
  }
  label code {
    margin-left: auto;
    color: var(--soft);
    font-size: 12px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
</style>
