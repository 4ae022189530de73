<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';

  import { client, take, type Column } from '../../api/client';
  import type { Editor, StepDoc } from '../editor.svelte';

  /** The columns by which rows of two steps belong together: chosen by hand, or
   * taken from those that the values suggest. */
  let {
    editor,
    step,
    input,
    other,
    change,
    problems,
    readonly,
  }: {
    editor: Editor;
    step: StepDoc;
    input: Column[];
    other: Column[];
    change: (on: { left: string; right?: string }[]) => void;
    problems: Record<string, string>;
    readonly: boolean;
  } = $props();

  const on = $derived((step.settings.on as { left: string; right?: string }[] | undefined) ?? []);
  const ready = $derived(!readonly && !!step.from && !!step.with && input.length > 0 && other.length > 0);
  // What comes in decides, not this step's own settings.
  const before = $derived(
    `${step.from}|${step.with}|${[input, other].map((list) => list.map((c) => `${c.name} ${c.type}`).join()).join('|')}`,
  );
  const found = createQuery(() => ({
    queryKey: ['keys', editor.id, before],
    enabled: ready,
    staleTime: 60_000,
    retry: false,
    queryFn: ({ signal }) =>
      take(
        client.POST('/api/sheets/keys', {
          body: { doc: editor.doc as unknown, step: step.id, sample: editor.sample },
          signal,
        }),
      ),
  }));
  const used = (l: string, r: string) => on.some((k) => k.left === l && (k.right || k.left) === r);
  const more = $derived((found.data ?? []).filter((k) => !used(k.left, k.right)));
  const pair = (left: string, right: string) => (left === right ? { left } : { left, right });
</script>

<div class="keys" data-setting="on" role="group" aria-label="on">
  {#each on as k, i (i)}
    <span class="key">
      <select
        class="field data"
        aria-label="on {i + 1} left"
        disabled={readonly}
        value={k.left}
        onchange={(e) => change(on.map((x, n) => (n === i ? pair(e.currentTarget.value, x.right || x.left) : x)))}
      >
        {#if !input.some((c) => c.name === k.left)}<option value={k.left}>{k.left || 'choose…'}</option>{/if}
        {#each input as c (c.name)}<option value={c.name}>{c.name}</option>{/each}
      </select>
      =
      <select
        class="field data"
        aria-label="on {i + 1} right"
        disabled={readonly}
        value={k.right || k.left}
        onchange={(e) => change(on.map((x, n) => (n === i ? pair(x.left, e.currentTarget.value) : x)))}
      >
        {#if !other.some((c) => c.name === (k.right || k.left))}<option value={k.right || k.left}
            >{k.right || k.left || 'choose…'}</option
          >{/if}
        {#each other as c (c.name)}<option value={c.name}>{c.name}</option>{/each}
      </select>
      {#if !readonly}<button
          class="plain"
          aria-label="remove on {i + 1}"
          onclick={() => change(on.filter((_, n) => n !== i))}>×</button
        >{/if}
    </span>
    {#each ['', '.left', '.right'] as part (part)}
      {#if problems[`on[${i}]${part}`]}<p class="bad" role="alert">{problems[`on[${i}]${part}`]}</p>{/if}
    {/each}
  {/each}
  {#if !readonly}<button class="plain" onclick={() => change([...on, { left: '', right: '' }])}>Add a key</button>{/if}
  {#if problems.on}<p class="bad" role="alert">{problems.on}</p>{/if}
  {#if more.length}
    <div class="found">
      <span class="note">fits by its values:</span>
      {#each more.slice(0, 4) as k (`${k.left} ${k.right}`)}
        <button
          class="plain"
          title={k.sentence}
          onclick={() => change([...on.filter((x) => x.left), pair(k.left, k.right)])}
          ><code>{k.left}</code> = <code>{k.right}</code>
          <span class="note">{Math.round(k.share * 100)} %{k.unique ? '' : ', several on the right'}</span></button
        >
      {/each}
    </div>
  {:else if found.isFetching}
    <span class="note working">looking for columns that fit…</span>
  {:else if found.error && !on.length}
    <span class="note">no suggestion: {found.error.message}</span>
  {/if}
</div>

<style>
  .keys {
    display: flex;
    flex-wrap: wrap;
    gap: 3px 16px;
    align-items: baseline;
  }
  .key {
    display: inline-flex;
    gap: 6px;
    align-items: baseline;
  }
  .key select {
    width: auto;
    max-width: 170px;
    min-width: 90px;
  }
  .found {
    flex-basis: 100%;
    display: flex;
    flex-wrap: wrap;
    gap: 2px 14px;
    align-items: baseline;
  }
  .found .plain,
  .found .note {
    font-weight: 400;
    font-size: 12.5px;
  }
  .bad {
    flex-basis: 100%;
    margin: 0;
    font-size: 12.5px;
  }
</style>
