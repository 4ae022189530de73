<script lang="ts">
  import SchemaForm, { type Schema } from '../../components/SchemaForm.svelte';
  import { count } from '../../format';
  import KeyPairs from './KeyPairs.svelte';
  import { put, type FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** What joins, looks up, finds what was valid and compares: the keys, and how
   * many rows found a partner on each side. */
  let props: FormProps = $props();
  const { editor, step, kind, input, other, tried, account, problems, readonly } = $derived(props);

  const setOn = (on: { left: string; right?: string }[]) => props.change(put(step.settings, 'on', on, ['on']));
  const needsKeys = $derived(step.settings.rows !== 'every pair');
  const side = (i: number) => ({ matched: account?.matched?.[i] ?? 0, alone: account?.unmatched?.[i] ?? 0 });
  const names = $derived([step.from ?? 'left', step.with ?? 'right']);
  const counted = $derived(account?.matched ? [0, 1].filter((i) => side(i).matched + side(i).alone > 0) : []);

  // A look-up answers each row once: with a match, or with what is set for the other cases.
  const answers = $derived(step.kind === 'look up' || step.kind === 'find valid');
  const keyPlaces = $derived(
    ((step.settings.on as { left: string }[] | undefined) ?? [])
      .map((k) => k.left)
      .concat(step.kind === 'find valid' ? [String(step.settings.at ?? '')] : [])
      .map((n) => (tried?.before?.[0]?.columns ?? []).findIndex((c) => c.name === n))
      .filter((n) => n >= 0),
  );
  const before = $derived(tried?.before?.[0]);
  const whole = $derived(before !== undefined && (before.rows ?? []).length === before.total);
  const noKey = $derived((before?.rows ?? []).filter((r) => keyPlaces.some((k) => r?.[k] === null)).length);
  const aside = (code: string) =>
    (account?.reasons ?? []).filter((r) => r.code === code).reduce((sum, r) => sum + r.rows, 0);

  interface Answer {
    do?: string;
    values?: unknown[];
  }
  const cases = $derived([
    { name: 'no_key', words: 'no key', rows: whole ? noKey : undefined },
    { name: 'no_match', words: 'no match', rows: whole && account ? Math.max(0, side(0).alone - noKey) : undefined },
  ]);
  const answer = (name: string) => (step.settings[name] as Answer | undefined) ?? {};
  const schemaOf = (name: string) => ({
    properties: { values: (kind.schema as Schema).properties![name]!.properties!.values! },
  });
  function setAnswer(name: string, next: Answer) {
    if (next.do === 'use null' || !next.do) delete next.do;
    if (next.do !== 'use values') delete next.values;
    props.change(put(step.settings, name, next.do ? next : undefined));
  }

  // A comparison marks each row.
  const marks = $derived.by(() => {
    if (step.kind !== 'compare') return [];
    const name = String(step.settings.mark_as ?? 'mark');
    const at = (tried?.after?.columns ?? []).findIndex((c) => c.name === name);
    const p = tried?.after?.profile?.[at];
    return ['new', 'changed', 'gone', 'same'].map((mark) => ({
      mark,
      rows: (p?.frequent ?? []).find((f) => f.text === mark)?.rows ?? 0,
    }));
  });
</script>

<div class="on">
  {#if needsKeys}
    <span class="what">on</span>
    <KeyPairs {editor} {step} {input} {other} change={setOn} {problems} {readonly} />
  {/if}
  {#if counted.length}
    <span class="what">found</span>
    <div class="counts">
      {#each counted as i (i)}
        {@const s = side(i)}
        <span
          ><code>{names[i]}</code> <b class="num">{count(s.matched)}</b> with a partner,
          {#if i === 1 && account?.keyed}<span class="note">(rows with other keys were not read)</span>{:else}<b
              class="num"
              class:look={s.alone > 0}>{count(s.alone)}</b
            > without{/if}</span
        >
      {/each}
      {#if answers && aside('many matches')}<span
          ><b class="num">{count(aside('many matches'))}</b> match several and are set aside</span
        >{/if}
    </div>
  {/if}
  {#if answers}
    {#each cases as c (c.name)}
      <span class="what">{c.words}</span>
      <div data-setting={c.name}>
        <select
          class="field answer"
          aria-label={c.words}
          disabled={readonly}
          value={answer(c.name).do ?? 'use null'}
          onchange={(e) => setAnswer(c.name, { ...answer(c.name), do: e.currentTarget.value })}
        >
          {#each ['use null', 'use values', 'set aside', 'drop'] as o (o)}<option value={o}>{o}</option>{/each}
        </select>
        {#if c.rows}<span class="note"><b class="num">{count(c.rows)}</b> {c.rows === 1 ? 'row' : 'rows'}</span>{/if}
        {#if answer(c.name).do === 'use values'}
          <SchemaForm
            schema={schemaOf(c.name)}
            value={answer(c.name) as Record<string, unknown>}
            change={(v) => setAnswer(c.name, v)}
            path={c.name}
            suggest={props.suggest}
            {problems}
            {readonly}
          />
        {/if}
      </div>
    {/each}
  {/if}
  {#if marks.length && tried}
    <span class="what">marked</span>
    <div class="counts">
      {#each marks as m (m.mark)}<span><b class="num" class:zero={!m.rows}>{count(m.rows)}</b> {m.mark}</span>{/each}
    </div>
  {/if}
</div>
<Rest {props} without={answers ? ['on', 'no_key', 'no_match'] : ['on']} />

<style>
  .on {
    display: grid;
    grid-template-columns: 112px minmax(0, 1fr);
    gap: 7px 10px;
    align-items: baseline;
    font-size: 13.5px;
    margin-bottom: 7px;
  }
  .what {
    color: var(--soft);
  }
  .counts {
    display: flex;
    flex-wrap: wrap;
    gap: 2px 18px;
    font-size: 13px;
  }
  .answer {
    width: auto;
    min-width: 130px;
  }
  .look {
    color: var(--aside);
  }
</style>
