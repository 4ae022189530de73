<script lang="ts">
  import { createQuery, keepPreviousData } from '@tanstack/svelte-query';

  import { client, take } from '../../api/client';
  import { count } from '../../format';
  import { put, type FormProps } from './settings';
  import Rest from './Rest.svelte';

  /** Matching by likeness: the thresholds, and below them the pairs that lie
   * closest to one, to be decided by looking. */
  let props: FormProps = $props();
  const { editor, step, tried, change, problems, readonly } = $derived(props);

  interface Decided {
    value: string;
    name?: string;
  }
  const decided = $derived((step.settings.decided as Decided[] | undefined) ?? []);
  const asked = $derived(!readonly && !!step.with && !!step.settings.column && !!step.settings.name && editor.current);
  // Only what the pairs depend on asks for them anew.
  const key = $derived(
    JSON.stringify([
      editor.checked?.yaml.length && tried?.before?.map((b) => b.total),
      step.from,
      step.with,
      step.settings,
      editor.sample,
    ]),
  );
  const found = createQuery(() => ({
    queryKey: ['pairs', editor.id, step.id, key],
    enabled: asked,
    staleTime: 30_000,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      take(
        client.POST('/api/sheets/pairs', {
          body: { doc: editor.doc as unknown, step: step.id, sample: editor.sample },
          signal,
        }),
      ),
  }));
  let shown = $state<'close' | 'unclear' | 'near' | 'too far' | 'decided'>('close');
  const pairs = $derived(
    (found.data ?? []).filter((p) =>
      shown === 'close' ? !p.decided : shown === 'decided' ? p.decided : p.branch === shown && !p.decided,
    ),
  );
  const most = 200;
  const decide = (value: string, name: string) =>
    change({
      ...step.settings,
      decided: [...decided.filter((d) => d.value !== value), name ? { value, name } : { value }],
    });
  const forget = (value: string) =>
    change(
      put(
        step.settings,
        'decided',
        decided.filter((d) => d.value !== value),
      ),
    );
  const score = (n: number) => n.toFixed(3);
  const number = (name: string, usual: number) => Number(step.settings[name] ?? usual);
  const thresholds = [
    { name: 'near', label: 'near from', usual: 0.92 },
    { name: 'unclear', label: 'unclear from', usual: 0.8 },
    { name: 'margin', label: 'margin', usual: 0.02 },
  ];
  const total = (name: string) => tried?.branches?.find((b) => b.name === name)?.total;
</script>

<Rest {props} only={['column', 'name', 'algorithm']} />
<div class="scale">
  {#each thresholds as t (t.name)}
    <label data-setting={t.name}
      ><span>{t.label}</span><input
        type="number"
        class="field data"
        min="0"
        max="1"
        step="0.01"
        aria-label={t.label}
        {readonly}
        value={number(t.name, t.usual)}
        onchange={(e) =>
          change(put(step.settings, t.name, e.currentTarget.value === '' ? undefined : Number(e.currentTarget.value)))}
      /></label
    >
  {/each}
  <span class="counts">
    {#each ['exact', 'near', 'unclear', 'too far'] as b (b)}
      {#if total(b) !== undefined}<span><b class="num" class:zero={!total(b)}>{count(total(b)!)}</b> {b}</span>{/if}
    {/each}
  </span>
</div>
{#each thresholds as t (t.name)}{#if problems[t.name]}<p class="bad" role="alert">{problems[t.name]}</p>{/if}{/each}
{#if found.data}
  <div class="pairs">
    <div class="bar" role="group" aria-label="Which pairs are shown">
      {#each [['close', 'closest to a threshold'], ['unclear', 'unclear'], ['near', 'near'], ['too far', 'too far'], ['decided', 'decided']] as [which, words] (which)}
        <button class="plain" aria-pressed={shown === which} onclick={() => (shown = which as typeof shown)}
          >{words}</button
        >
      {/each}
    </div>
    <div class="list">
      <table class="lines" aria-label="Pairs">
        <thead
          ><tr
            ><th>value</th><th class="r">rows</th><th>nearest</th><th class="r">score</th><th>second best</th><th
            ></th><th></th></tr
          ></thead
        >
        <tbody>
          {#each pairs.slice(0, most) as p (p.value)}
            <tr>
              <td><code>{p.value}</code></td>
              <td class="r num">{count(p.rows)}</td>
              <td
                >{#if p.name}<code>{p.name}</code>{:else}<span class="note">no match</span>{/if}</td
              >
              <td class="r num">{p.decided ? '' : score(p.score)}</td>
              <td
                >{#if p.second && !p.decided}<code>{p.second}</code>
                  <span class="num note">{score(p.next ?? 0)}</span>{/if}</td
              >
              <td class="note">{p.decided ? 'decided' : p.branch}</td>
              <td class="acts">
                {#if !readonly}
                  {#if p.decided}
                    <button class="plain" onclick={() => forget(p.value)}>Ask again</button>
                  {:else}
                    {#if p.name}<button
                        class="plain"
                        aria-label="Same: {p.value} is {p.name}"
                        onclick={() => decide(p.value, p.name!)}>Same</button
                      >{/if}
                    {#if p.second}<button
                        class="plain"
                        aria-label="Second: {p.value} is {p.second}"
                        onclick={() => decide(p.value, p.second!)}>Second</button
                      >{/if}
                    <button
                      class="plain"
                      aria-label="None: {p.value} is not among them"
                      onclick={() => decide(p.value, '')}>None</button
                    >
                  {/if}
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if !pairs.length}<p class="note none">
          No pair is {shown === 'close' ? 'in doubt: every value is exactly there' : shown}.
        </p>{/if}
      {#if pairs.length > most}<p class="note none">
          and {count(pairs.length - most)} more, further from any threshold
        </p>{/if}
    </div>
  </div>
{:else if found.error}<p class="note">No pairs yet: {found.error.message}</p>{/if}
<Rest {props} without={['column', 'name', 'algorithm', 'near', 'unclear', 'margin', 'decided']} />

<style>
  .scale {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 18px;
    align-items: baseline;
    font-size: 13.5px;
    margin: 7px 0;
  }
  .scale label {
    display: inline-flex;
    gap: 8px;
    align-items: baseline;
    color: var(--soft);
  }
  .scale label:first-child span {
    width: 112px;
  }
  .scale input {
    width: 62px;
  }
  .counts {
    display: flex;
    gap: 12px;
    font-size: 13px;
    margin-left: auto;
  }
  .bar {
    display: flex;
    gap: 14px;
    padding: 2px 0;
  }
  .bar .plain {
    font-weight: 400;
    font-size: 12.5px;
  }
  .bar .plain[aria-pressed='true'] {
    color: var(--ink);
    font-weight: 650;
  }
  .list {
    max-height: 190px;
    overflow: auto;
    border-top: 1px solid var(--rule);
    margin-bottom: 7px;
  }
  .list td {
    padding: 2px 10px 2px 0;
  }
  .list th {
    padding: 2px 10px 2px 0;
  }
  .acts {
    display: flex;
    gap: 10px;
    justify-content: flex-end;
  }
  .acts .plain {
    font-size: 12.5px;
  }
  .none {
    margin: 4px 0;
  }
  .bad {
    margin: 2px 0;
    font-size: 12.5px;
  }
</style>
