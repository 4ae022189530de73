<script lang="ts">
  import ListTools from '../../components/ListTools.svelte';
  import CodeField from '../../code/CodeField.svelte';
  import ColumnWords from '../../components/ColumnWords.svelte';
  import { count } from '../../format';
  import { columnsAt, inputsOf } from '../editor.svelte';
  import { moved, type FormProps } from './settings';

  /** Rules, a line each: which columns, what must hold, and how many rows it sets aside. */
  let { editor, step, input, account, tried, change, problems, readonly }: FormProps = $props();

  interface Rule {
    columns?: string[];
    allowed?: string[];
    pattern?: string;
    range?: { least?: string; most?: string };
    not_null?: boolean;
    unique?: boolean;
    refers_to?: { step?: string; columns: string[] };
    where?: string;
    name?: string;
  }
  type Check = 'not null' | 'unique' | 'one of' | 'from – to' | 'fits' | 'refers to' | 'holds';
  const checks: Check[] = ['not null', 'unique', 'one of', 'from – to', 'fits', 'refers to', 'holds'];
  const rules = $derived((step.settings.rules as Rule[] | undefined) ?? []);
  const set = (list: Rule[]) => change({ ...step.settings, rules: list });
  const alter = (i: number, r: Rule) => set(rules.map((x, k) => (k === i ? r : x)));
  const references = $derived(inputsOf(step).slice(1));

  function checkOf(r: Rule): Check {
    if (r.allowed) return 'one of';
    if (r.pattern !== undefined) return 'fits';
    if (r.range) return 'from – to';
    if (r.unique) return 'unique';
    if (r.refers_to) return 'refers to';
    if (r.where !== undefined) return 'holds';
    return 'not null';
  }
  /** as gives a rule another check; its columns and name stay. */
  function as(r: Rule, c: Check): Rule {
    const next: Rule = {
      ...(r.columns && c !== 'holds' ? { columns: r.columns } : {}),
      ...(r.name ? { name: r.name } : {}),
    };
    const with_: Record<Check, Partial<Rule>> = {
      'not null': { not_null: true },
      unique: { unique: true },
      'one of': { allowed: [] },
      'from – to': { range: {} },
      fits: { pattern: '' },
      'refers to': { refers_to: { columns: [] } },
      holds: { where: '' },
    };
    return { ...next, ...with_[c] };
  }
  const asideBy = (i: number) =>
    (account?.reasons ?? []).filter((r) => r.part === i + 1).reduce((sum, r) => sum + r.rows, 0);
  const words = (text: string) =>
    text
      .split(',')
      .map((w) => w.trim())
      .filter((w) => w !== '');
  const problemsOf = (i: number) =>
    Object.entries(problems)
      .filter(([path]) => path === `rules[${i}]` || path.startsWith(`rules[${i}].`))
      .map(([, sentence]) => sentence);
</script>

<ol class="rules" aria-label="rules" data-setting="rules">
  {#each rules as r, i (i)}
    {@const c = checkOf(r)}
    <li>
      <div role="group" aria-label="rules {i + 1}">
        <div class="line">
          <select
            class="field check"
            aria-label="rules {i + 1} check"
            disabled={readonly}
            value={c}
            onchange={(e) => alter(i, as(r, e.currentTarget.value as Check))}
          >
            {#each checks as o (o)}<option value={o}>{o}</option>{/each}
          </select>
          <span class="detail">
            {#if c === 'one of'}
              <input
                class="field data"
                aria-label="rules {i + 1} allowed"
                placeholder="values with commas between"
                {readonly}
                value={(r.allowed ?? []).join(', ')}
                onchange={(e) => alter(i, { ...r, allowed: words(e.currentTarget.value) })}
              />
            {:else if c === 'fits'}
              <input
                class="field data"
                aria-label="rules {i + 1} pattern"
                placeholder="a regular expression for the whole text"
                {readonly}
                value={r.pattern}
                oninput={(e) => alter(i, { ...r, pattern: e.currentTarget.value })}
              />
            {:else if c === 'from – to'}
              {#each ['least', 'most'] as const as end (end)}
                <input
                  class="field data"
                  aria-label="rules {i + 1} {end}"
                  placeholder={end === 'least' ? 'from any' : 'to any'}
                  {readonly}
                  value={r.range?.[end] ?? ''}
                  oninput={(e) => {
                    const range = { ...r.range, [end]: e.currentTarget.value };
                    if (!range[end]) delete range[end];
                    alter(i, { ...r, range });
                  }}
                />
              {/each}
            {:else if c === 'refers to'}
              {#if references.length > 1}<select
                  class="field"
                  aria-label="rules {i + 1} step"
                  disabled={readonly}
                  value={r.refers_to?.step ?? ''}
                  onchange={(e) =>
                    alter(i, { ...r, refers_to: { columns: r.refers_to?.columns ?? [], step: e.currentTarget.value } })}
                  ><option value="">choose a step…</option>{#each references as s (s)}<option value={s}>{s}</option
                    >{/each}</select
                >{/if}
              {#if references.length}<select
                  class="field data"
                  aria-label="rules {i + 1} column"
                  disabled={readonly}
                  value={r.refers_to?.columns?.[0] ?? ''}
                  onchange={(e) => alter(i, { ...r, refers_to: { ...r.refers_to, columns: [e.currentTarget.value] } })}
                  ><option value="">choose a column…</option
                  >{#each columnsAt(editor.checked, r.refers_to?.step || references[0]) as x (x.name)}<option
                      value={x.name}>{x.name}</option
                    >{/each}</select
                >{:else}<span class="note">name the step referred to under “with”</span>{/if}
            {:else if c === 'holds'}
              <CodeField
                value={r.where ?? ''}
                change={(v) => alter(i, { ...r, where: v })}
                label="rules {i + 1} where"
                hint="a condition that must not be false"
                {readonly}
              />
            {/if}
          </span>
          <input
            class="field name"
            aria-label="rules {i + 1} name"
            placeholder="called"
            title="What the rule is called as the reason"
            {readonly}
            value={r.name ?? ''}
            oninput={(e) => {
              const next: Rule = { ...r, name: e.currentTarget.value };
              if (!next.name) delete next.name;
              alter(i, next);
            }}
          />
          <span class="num" class:as={asideBy(i) > 0} class:zero={!asideBy(i)} title="Rows that it sets aside"
            >{tried ? count(asideBy(i)) : ''}</span
          >
          {#if !readonly}<ListTools
              what="rule {i + 1}"
              up={() => set(moved(rules, i, -1))}
              down={() => set(moved(rules, i, 1))}
              remove={() => set(rules.filter((_, k) => k !== i))}
            />{/if}
        </div>
        {#if c !== 'holds'}
          <ColumnWords
            columns={input.map((x) => x.name)}
            value={r.columns ?? []}
            change={(columns) => alter(i, { ...r, columns })}
            label="rules {i + 1} columns"
            {readonly}
          />
        {/if}
        {#each problemsOf(i) as p (p)}<p class="bad" role="alert">{p}</p>{/each}
      </div>
    </li>
  {/each}
</ol>
{#if problems.rules}<p class="bad" role="alert">{problems.rules}</p>{/if}
{#if !readonly}<button class="plain" onclick={() => set([...rules, { not_null: true, columns: [] }])}>Add a rule</button
  >{/if}

<style>
  .rules {
    list-style: none;
    margin: 0 0 4px;
    padding: 0;
    border-top: 1px solid var(--rule);
  }
  li {
    border-bottom: 1px solid var(--rule);
    padding: 3px 0 5px;
  }
  .line {
    display: grid;
    grid-template-columns: 88px minmax(0, 1fr) 92px 52px 58px;
    gap: 0 10px;
    align-items: baseline;
    margin-bottom: 2px;
  }
  .detail {
    display: flex;
    gap: 10px;
    min-width: 0;
  }
  .detail :global(.code) {
    flex: 1;
  }
  .num {
    text-align: right;
  }
  .num.as {
    font-weight: 650;
  }
  .bad {
    margin: 1px 0;
    font-size: 12.5px;
  }
</style>
