<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';

  import { client, Refusal, take } from '../api/client';
  import { bytes } from '../format';

  /** Takes files that are dropped on the page, chosen, or fetched from an address,
   * into a connection that holds files; then a sheet begins with them. */
  let {
    begin,
    offer = false,
  }: { begin: (connection: string, file: string) => void; /** Shows the ways besides dropping. */ offer?: boolean } =
    $props();

  const connections = createQuery(() => ({
    queryKey: ['connections'],
    queryFn: () => take(client.GET('/api/connections')),
  }));
  const folders = $derived((connections.data ?? []).filter((c) => c.holds === 'files').map((c) => c.name));
  let over = $state(false);
  let file = $state<File>();
  let address = $state('');
  let busy = $state('');
  let telling = $state('');

  const isFiles = (e: DragEvent) => [...(e.dataTransfer?.types ?? [])].includes('Files');
  function dropped(e: DragEvent) {
    if (!isFiles(e)) return;
    e.preventDefault();
    over = false;
    const f = e.dataTransfer?.files[0];
    if (f) chosen(f);
  }
  function chosen(f: File) {
    file = f;
    telling = '';
    if (folders.length === 1) void keep(folders[0]!);
  }
  async function keep(connection: string) {
    busy = connection;
    telling = '';
    try {
      if (file) {
        const r = await fetch(`/api/files/${encodeURIComponent(connection)}/${encodeURIComponent(file.name)}`, {
          method: 'PUT',
          body: file,
        });
        if (!r.ok) throw new Refusal((await r.text()).trim(), r.status);
        begin(connection, ((await r.json()) as { file: string }).file);
      } else {
        const got = await take(client.POST('/api/fetched-files', { body: { connection, address: address.trim() } }));
        begin(connection, got.file);
      }
      file = undefined;
      address = '';
    } catch (e) {
      telling = (e as Error).message;
    }
    busy = '';
  }
</script>

<svelte:window
  ondragover={(e) => {
    if (!isFiles(e)) return;
    e.preventDefault();
    over = true;
  }}
  ondragleave={(e) => e.relatedTarget === null && (over = false)}
  ondrop={dropped}
/>
{#if over}<div class="over">Let go to begin with this file</div>{/if}
{#snippet where()}
  <span class="note">is kept in</span>
  {#each folders as f (f)}
    <button class="push" disabled={busy !== ''} onclick={() => keep(f)}>{busy === f ? 'Taking it…' : f}</button>
  {:else}<span class="note">no connection that holds files; <a href="/connections/new">add a folder</a> first</span
    >{/each}
  <button
    class="plain"
    onclick={() => {
      file = undefined;
      address = telling = '';
    }}>Not this one</button
  >
{/snippet}
{#if offer || file || telling}
  <div class="intake">
    {#if file}
      <b>{file.name}, {bytes(file.size)}</b>
      {@render where()}
    {:else}
      <span class="note">or drop a file here,</span>
      <label class="plain"
        >choose one<input
          type="file"
          aria-label="choose a file"
          onchange={(e) => e.currentTarget.files?.[0] && chosen(e.currentTarget.files[0])}
        /></label
      >
      <span class="note">or give an address</span>
      <input class="field" placeholder="https://…" aria-label="address" bind:value={address} />
      {#if /^https?:\/\/./.test(address.trim())}{@render where()}{/if}
    {/if}
    {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
  </div>
{/if}

<style>
  .over {
    position: fixed;
    inset: 0;
    z-index: 30;
    display: grid;
    place-items: center;
    font: 650 25px var(--title);
    background: color-mix(in srgb, var(--paper) 86%, transparent);
    border: 3px double var(--act);
    pointer-events: none;
  }
  .intake {
    display: flex;
    flex-wrap: wrap;
    gap: 6px 10px;
    align-items: baseline;
    padding: 8px 14px 10px 74px;
    font-size: 13px;
  }
  .intake .field {
    width: 220px;
  }
  .intake .telling {
    flex-basis: 100%;
    margin: 0;
  }
  label input {
    position: absolute;
    opacity: 0;
    width: 1px;
  }
  label:focus-within {
    outline: 2px solid var(--act);
  }
</style>
