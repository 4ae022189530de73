<script lang="ts">
  import { count } from '../format';
  import type { StepDoc } from './editor.svelte';
  import RecordPath from './RecordPath.svelte';

  /** The requests that were made to find out an API's ways, each with its reply; where the
   * records stand is chosen in the reply itself. */
  let {
    look,
    step,
    readonly,
    change,
  }: {
    look: Look;
    step: StepDoc;
    readonly: boolean;
    change: (settings: Record<string, unknown>) => void;
  } = $props();

  interface Look {
    format: string;
    records: string;
    paging: Record<string, unknown> & { kind: string };
    total?: string;
    claimed?: number;
    why: string[];
    sure: boolean;
    calls: { address: string; status: number; header?: Record<string, string>; body: string; records: number }[];
  }
  let opened = $state(-1);
  const set = (part: Record<string, unknown>) => change({ ...step.settings, ...part });
  const body = $derived.by(() => {
    try {
      return JSON.parse(look.calls[opened]?.body ?? '') as unknown;
    } catch {
      return undefined;
    }
  });
  const shown = (address: string) => {
    const u = new URL(address);
    return u.pathname + u.search;
  };
  const other = $derived(
    Object.entries(look.calls[opened]?.header ?? {}).filter(([k]) => /^(link|content-type|retry-after|x-)/i.test(k)),
  );
</script>

<div class="look">
  <p class="note sec">
    Pages: <b>{look.paging.kind}</b>{look.sure ? '' : ' (not sure)'}. {look.why.join('; ')}.
    {#if !readonly && !step.settings.paging}<button
        class="plain"
        onclick={() => set({ paging: look.paging, ...(look.total ? { total: look.total } : {}) })}
        >Change how pages follow</button
      >{/if}
  </p>
  <table class="lines">
    <thead><tr><th>asked while looking</th><th class="r">answers</th><th class="r">records</th></tr></thead>
    <tbody>
      {#each look.calls as c, i (i)}
        <tr class:on={opened === i}>
          <td
            ><button class="plain data" aria-expanded={opened === i} onclick={() => (opened = opened === i ? -1 : i)}
              >{shown(c.address)}</button
            ></td
          >
          <td class="r num">{c.status}</td>
          <td class="r num">{count(c.records)}</td>
        </tr>
        {#if opened === i}
          <tr class="on"
            ><td colspan="3">
              {#each other as [k, v] (k)}<div class="data head"><span class="note">{k}</span> {v}</div>{/each}
              {#if body !== undefined}
                {#if !readonly}<p class="note">Press a list to take its items for the records.</p>{/if}
                <div class="tree">
                  <RecordPath
                    name=""
                    value={body}
                    path=""
                    chosen={look.records}
                    choose={readonly ? undefined : (p) => set({ records: p || '$' })}
                  />
                </div>
              {:else}<pre class="tree data">{c.body.slice(0, 4000)}</pre>{/if}
            </td></tr
          >
        {/if}
      {/each}
    </tbody>
  </table>
</div>

<style>
  .lines {
    margin: 0 8px;
    width: calc(100% - 16px);
  }
  .tree {
    overflow: auto;
    font-size: 12px;
    margin: 4px 0;
  }
  pre {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  td button {
    font-size: 12px;
    text-align: left;
    overflow-wrap: anywhere;
    white-space: normal;
  }
  .head {
    font-size: 12px;
    overflow-wrap: anywhere;
  }
</style>
