<script lang="ts">
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';

  import { client, take, type Person } from '../lib/api/client';
  import Ago from '../lib/components/Ago.svelte';
  import Spread from '../lib/components/Spread.svelte';

  const queries = useQueryClient();
  const people = createQuery(() => ({ queryKey: ['people'], queryFn: () => take(client.GET('/api/people')) }));
  type Role = Person['role'];
  const roles: [Role, string][] = [
    ['reader', 'sees everything, changes nothing'],
    ['operator', 'also runs, stops and schedules'],
    ['builder', 'also builds pipelines and connections'],
    ['admin', 'also adds people'],
  ];
  const blank = () => ({ id: 0, login: '', name: '', role: 'builder' as Role, password: '', disabled: false });
  let form = $state(blank());
  let telling = $state('');
  let told = $state('');

  function choose(p: Person) {
    form = { id: p.id, login: p.login, name: p.name, role: p.role, password: '', disabled: p.disabled };
    telling = told = '';
  }
  async function save(e: SubmitEvent) {
    e.preventDefault();
    telling = told = '';
    const { id, password, ...rest } = form;
    const body = { ...rest, ...(password ? { password } : {}) };
    try {
      if (id) await take(client.PUT('/api/people/{id}', { params: { path: { id } }, body }));
      else await take(client.POST('/api/people', { body }));
      told = `${form.name} is saved.`;
      form = blank();
      await queries.invalidateQueries({ queryKey: ['people'] });
    } catch (err) {
      telling = (err as Error).message;
    }
  }
</script>

<svelte:head><title>People · Welkin</title></svelte:head>
<div class="head">
  <h1>People</h1>
  <span class="meta">who may sign in, and what they may do</span>
</div>
<Spread name="people" width={690}>
  {#snippet ledger()}
    <div class="scroll">
      {#if people.error}<p class="telling" role="alert">{people.error.message}</p>{/if}
      <table class="lines">
        <thead><tr><th>name</th><th>signs in as</th><th>role</th><th>since</th></tr></thead>
        <tbody>
          {#each people.data ?? [] as p (p.id)}
            <tr class="opens" class:on={form.id === p.id} onclick={() => choose(p)}>
              <td><button class="plain" onclick={() => choose(p)}>{p.name}</button></td>
              <td class="data">{p.login}</td>
              <td>{p.role}{p.disabled ? ', may not sign in' : ''}</td>
              <td class="note"><Ago time={p.created_at} /></td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/snippet}
  {#snippet page()}
    <form class="scroll sec" onsubmit={save}>
      <h2>{form.id ? form.name : 'Add somebody'}</h2>
      <div class="set">
        <label for="login">signs in as</label><input
          id="login"
          class="field data"
          bind:value={form.login}
          readonly={form.id !== 0}
          autocomplete="off"
        />
        <label for="fullname">name</label><input id="fullname" class="field" bind:value={form.name} />
        <label for="role">role</label>
        <select id="role" class="field" bind:value={form.role}>
          {#each roles as [r, what] (r)}<option value={r}>{r}: {what}</option>{/each}
        </select>
        <label for="password">password</label>
        <input
          id="password"
          class="field"
          type="password"
          autocomplete="new-password"
          placeholder={form.id ? 'kept; type to replace it' : 'at least ten characters'}
          bind:value={form.password}
        />
        {#if form.id}<span></span><label><input type="checkbox" bind:checked={form.disabled} /> may not sign in</label
          >{/if}
      </div>
      {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
      {#if told}<p class="note" role="status">{told}</p>{/if}
      <p class="do">
        <button class="push main">{form.id ? 'Save' : 'Add'}</button>
        {#if form.id}<button type="button" class="plain" onclick={() => (form = blank())}>Add somebody else</button
          >{/if}
      </p>
    </form>
  {/snippet}
</Spread>

<style>
  .set {
    display: grid;
    grid-template-columns: 90px minmax(0, 340px);
    gap: 10px;
    align-items: baseline;
    margin: 10px 0;
    font-size: 13.5px;
  }
  label {
    color: var(--soft);
  }
  .do {
    display: flex;
    gap: 14px;
    align-items: baseline;
  }
</style>
