<script lang="ts">
  import { client, take, type CheckLine, type Connection, type ConnectionKind } from '../api/client';
  import Ask from '../components/Ask.svelte';
  import SchemaForm, { type Schema } from '../components/SchemaForm.svelte';
  import { may } from '../session.svelte';

  let {
    kinds,
    connection,
    saved,
    removed,
  }: { kinds: ConnectionKind[]; connection?: Connection; saved: (c: Connection) => void; removed: () => void } =
    $props();

  /* svelte-ignore state_referenced_locally */
  let name = $state(connection?.name ?? '');
  /* svelte-ignore state_referenced_locally */
  let kindName = $state(connection?.kind ?? kinds[0]?.name ?? '');
  /* svelte-ignore state_referenced_locally */
  let settings = $state<Record<string, unknown>>({ ...((connection?.settings as Record<string, unknown>) ?? {}) });
  let lines = $state<CheckLine[]>([]);
  let telling = $state('');
  let busy = $state('');
  let asking = $state(false);
  const kind = $derived(kinds.find((k) => k.name === kindName));
  const readonly = $derived(!may('builder'));
  const problems = $derived(
    Object.fromEntries(lines.filter((l) => l.state === 'bad' && l.setting).map((l) => [l.setting!, l.found])),
  );
  const marks: Record<string, string> = { good: '✓', bad: '✕', 'not tried': '–', note: '·' };

  async function act(what: string, doing: () => Promise<void>) {
    busy = what;
    telling = '';
    try {
      await doing();
    } catch (e) {
      telling = (e as Error).message;
    }
    busy = '';
  }
  const body = () => ({ name: name || 'unnamed', kind: kindName, settings });
  const check = () =>
    act('check', async () => {
      lines = [];
      lines =
        (await take(
          client.POST('/api/connection-check', { params: { query: { id: connection?.id ?? 0 } }, body: body() }),
        )) ?? [];
    });
  const save = () =>
    act('save', async () => {
      const c = connection
        ? await take(
            client.PUT('/api/connections/{id}', { params: { path: { id: connection.id } }, body: { ...body(), name } }),
          )
        : await take(client.POST('/api/connections', { body: { ...body(), name } }));
      saved(c);
    });
  const remove = () =>
    act('remove', async () => {
      await take(client.DELETE('/api/connections/{id}', { params: { path: { id: connection!.id } } }));
      removed();
    });
</script>

<div class="scroll sec">
  {#if !connection}<h2>New connection</h2>{/if}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void save();
    }}
  >
    <div class="top">
      <label for="name">name</label>
      <div>
        <input
          id="name"
          class="field data"
          bind:value={name}
          {readonly}
          placeholder="such as booking"
          spellcheck="false"
          autocomplete="off"
        />
        <p class="note">Steps call it by this name: letters, digits, _ and -.</p>
      </div>
      <label for="kind">kind</label>
      <div>
        {#if connection}{kindName}{:else}
          <select id="kind" class="field" bind:value={kindName} onchange={() => (lines = [])}>
            {#each kinds as k (k.name)}<option value={k.name}>{k.name}</option>{/each}
          </select>
        {/if}
        <p class="note">{kind?.help}</p>
      </div>
    </div>
    {#if kind}
      <SchemaForm
        schema={kind.schema as Schema}
        value={settings}
        change={(v) => {
          settings = v;
        }}
        {problems}
        kept={connection?.secrets_set ?? []}
        {readonly}
      />
    {/if}
    {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
    {#if !readonly}
      <div class="do">
        <button class="push main" disabled={busy !== ''}>{connection ? 'Save' : 'Add it'}</button>
        <button type="button" class="push" disabled={busy !== ''} onclick={check}
          >{busy === 'check' ? 'Checking…' : 'Check'}</button
        >
        {#if connection}<button type="button" class="plain warn" onclick={() => (asking = true)}>Remove…</button>{/if}
      </div>
    {/if}
  </form>
  {#if lines.length}
    <h2 class="list">Check list</h2>
    <table class="lines" aria-label="Check list">
      <tbody>
        {#each lines as l (l.what)}
          <tr>
            <td class="mark {l.state === 'bad' ? 'bad' : ''}">{marks[l.state]}</td>
            <td>{l.what}</td>
            <td class="note"
              >{l.state === 'not tried' ? 'not tried, since a line above failed' : l.found}{#if l.remedy}<br /><b
                  >{l.remedy}</b
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</div>
{#if connection}
  <Ask
    bind:open={asking}
    title="Remove {connection.name}?"
    gone="Its settings and secrets will be gone. Pipelines that name it can’t run until there is a connection of this name again."
    verb="Remove it"
    yes={remove}
  />
{/if}

<style>
  .top {
    display: grid;
    grid-template-columns: 112px 1fr;
    gap: 7px 10px;
    align-items: baseline;
    font-size: 13.5px;
    margin: 10px 0;
  }
  .top label {
    color: var(--soft);
  }
  .top p {
    margin: 2px 0 0;
    font-size: 12.5px;
  }
  .do {
    display: flex;
    gap: 12px;
    align-items: baseline;
    margin-top: 18px;
  }
  .list {
    margin-top: 24px;
  }
  .mark {
    width: 20px;
    font-weight: 700;
  }
</style>
