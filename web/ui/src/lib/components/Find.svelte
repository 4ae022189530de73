<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';

  import { go } from '../../router';
  import { client, take } from '../api/client';
  import { finding, type Hit } from '../finding.svelte';

  let { close }: { close: () => void } = $props();
  let text = $state('');
  let at = $state(0);

  const pipelines = createQuery(() => ({ queryKey: ['pipelines'], queryFn: () => take(client.GET('/api/pipelines')) }));
  const connections = createQuery(() => ({
    queryKey: ['connections'],
    queryFn: () => take(client.GET('/api/connections')),
  }));

  const all = $derived<Hit[]>([
    ...(text.trim() === '' ? [] : finding.here()),
    ...[
      ['Today', '/'],
      ['Connections', '/connections'],
      ['Pipelines', '/pipelines'],
      ['Timetable', '/timetable'],
      ['Runs', '/runs'],
    ].map(([name, to]) => ({ name: name!, what: 'page', to: to! })),
    { name: 'New pipeline', what: 'begin', to: '/pipelines/new' },
    { name: 'New connection', what: 'begin', to: '/connections/new' },
    { name: 'New schedule', what: 'begin', to: '/timetable/new' },
    { name: 'Runs that failed', what: 'list', to: '/runs?state=failed' },
    { name: 'Runs that set rows aside', what: 'list', to: '/runs?state=set+aside' },
    ...(pipelines.data ?? []).map((p) => ({ name: p.name, what: 'pipeline', to: `/pipelines/${p.id}` })),
    ...(connections.data ?? []).map((c) => ({ name: c.name, what: 'connection', to: `/connections/${c.id}` })),
  ]);
  const hits = $derived(
    all
      .concat(
        /^\d+$/.test(text.trim()) ? [{ name: `Run ${text.trim()}`, what: 'run', to: `/runs/${text.trim()}` }] : [],
      )
      .filter((h) =>
        text
          .trim()
          .toLowerCase()
          .split(/\s+/)
          .every((w) => `${h.name} ${h.what}`.toLowerCase().includes(w)),
      )
      .slice(0, 12),
  );

  function open(h: Hit | undefined) {
    if (!h) return;
    close();
    if (h.act) h.act();
    else go(h.to!);
  }
  function key(e: KeyboardEvent) {
    if (e.key === 'ArrowDown') at = Math.min(at + 1, hits.length - 1);
    else if (e.key === 'ArrowUp') at = Math.max(at - 1, 0);
    else if (e.key === 'Enter') open(hits[at]);
    else if (e.key === 'Escape') close();
    else return;
    e.preventDefault();
  }
  const focus = (el: HTMLInputElement) => el.focus();
</script>

<div class="over" role="presentation" onclick={close}></div>
<div class="find" role="dialog" aria-label="Find">
  <input
    {@attach focus}
    class="field"
    placeholder={finding.here().length
      ? 'Find a step or column of this sheet, a page, a pipeline, a run by its number'
      : 'Find a page, pipeline, connection, or a run by its number'}
    aria-label="Find"
    bind:value={text}
    oninput={() => (at = 0)}
    onkeydown={key}
  />
  <ul class="hits" role="listbox" aria-label="Found">
    {#each hits as h, i (i)}
      <!-- The field has the keys; a press takes it too. -->
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li role="option" aria-selected={i === at} class:on={i === at} onclick={() => open(h)}>
        <b>{h.name}</b> <span>{h.what}</span>
      </li>
    {:else}
      <li class="none">Nothing has this name.</li>
    {/each}
  </ul>
</div>

<style>
  .over {
    position: fixed;
    inset: 0;
    z-index: 40;
  }
  .find {
    position: fixed;
    top: 41px;
    right: 20px;
    width: 440px;
    z-index: 41;
    background: var(--raised);
    border: 1px solid var(--rule2);
    border-top: 2px solid var(--act);
    padding: 10px 14px 8px;
  }
  .hits li[role] {
    display: flex;
    justify-content: space-between;
  }
  b {
    font-weight: 550;
  }
</style>
