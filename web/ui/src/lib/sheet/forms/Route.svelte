<script lang="ts">
  import ListTools from '../../components/ListTools.svelte';
  import CodeField from '../../code/CodeField.svelte';
  import { count } from '../../format';
  import { moved, type FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** The rules of a route in their order, each with the rows that it catches. */
  let props: FormProps = $props();
  const { step, tried, change, problems, readonly } = $derived(props);

  interface Rule {
    name: string;
    where: string;
  }
  const rules = $derived((step.settings.branches as Rule[] | undefined) ?? []);
  const set = (list: Rule[]) => change({ ...step.settings, branches: list });
  const alter = (i: number, name: keyof Rule, v: string) =>
    set(rules.map((r, k) => (k === i ? { ...r, [name]: v } : r)));
  const caught = (name: string) => tried?.branches?.find((b) => b.name === name)?.total;
  const rest = $derived(String(step.settings.rest ?? 'rest'));
  const came = $derived(tried?.before?.[0]?.total ?? 0);
  const share = (n: number | undefined) => (n === undefined || !came ? '' : `${Math.round((n / came) * 100)} %`);
</script>

<ol class="rules" aria-label="branches" data-setting="branches">
  {#each rules as r, i (i)}
    {@const n = caught(r.name)}
    <li>
      <input
        class="field data name"
        aria-label="branches {i + 1} name"
        placeholder="name"
        {readonly}
        value={r.name}
        oninput={(e) => alter(i, 'name', e.currentTarget.value)}
      />
      <span class="where"
        ><CodeField
          value={r.where}
          change={(v) => alter(i, 'where', v)}
          label="branches {i + 1} where"
          hint="a condition"
          {readonly}
        /></span
      >
      <span class="num" class:zero={n === 0}>{n === undefined ? '' : count(n)}</span>
      <span class="note part">{share(n)}</span>
      {#if !readonly}<ListTools
          what="branch {i + 1}"
          up={() => set(moved(rules, i, -1))}
          down={() => set(moved(rules, i, 1))}
          remove={() => set(rules.filter((_, k) => k !== i))}
        />{:else}<span></span>{/if}
      {#each ['', '.name', '.where'] as part (part)}
        {#if problems[`branches[${i}]${part}`]}<p class="bad" role="alert">{problems[`branches[${i}]${part}`]}</p>{/if}
      {/each}
    </li>
  {/each}
  <li class="rest">
    <code class="name">{rest}</code><span class="where note">all others</span>
    <span class="num" class:zero={caught(rest) === 0}>{caught(rest) === undefined ? '' : count(caught(rest)!)}</span>
    <span class="note part">{share(caught(rest))}</span><span></span>
  </li>
</ol>
{#if problems.branches}<p class="bad" role="alert">{problems.branches}</p>{/if}
{#if !readonly}<button class="plain add" onclick={() => set([...rules, { name: '', where: '' }])}>Add a branch</button
  >{/if}
<Rest {props} without={['branches']} />

<style>
  .rules {
    list-style: none;
    margin: 0 0 4px;
    padding: 0;
    border-top: 1px solid var(--rule);
  }
  li {
    display: grid;
    grid-template-columns: 110px minmax(0, 1fr) 64px 40px 62px;
    gap: 0 10px;
    align-items: baseline;
    border-bottom: 1px solid var(--rule);
    padding: 2px 0;
  }
  .num {
    text-align: right;
  }
  .part {
    font-size: 12px;
  }
  .bad {
    grid-column: 1 / -1;
    margin: 1px 0;
    font-size: 12.5px;
  }
  .add {
    margin-bottom: 8px;
  }
</style>
