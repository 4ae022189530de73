<script lang="ts">
  import { signIn } from '../lib/session.svelte';

  let login = $state('');
  let password = $state('');
  let telling = $state('');
  let busy = $state(false);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    busy = true;
    telling = '';
    try {
      await signIn(login, password);
    } catch (err) {
      telling = (err as Error).message;
    }
    busy = false;
  }
  const focus = (el: HTMLInputElement) => el.focus();
</script>

<main>
  <form onsubmit={submit}>
    <h1>Welkin</h1>
    <p class="note">Pipelines you can read, and books that balance.</p>
    <label
      >name<input
        {@attach focus}
        class="field"
        name="login"
        autocomplete="username"
        required
        bind:value={login}
      /></label
    >
    <label
      >password<input
        class="field"
        name="password"
        type="password"
        autocomplete="current-password"
        required
        bind:value={password}
      /></label
    >
    {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
    <button class="push main" disabled={busy}>Sign in</button>
  </form>
</main>

<style>
  main {
    display: grid;
    place-items: start center;
    padding-top: 22vh;
  }
  form {
    width: 320px;
    display: flex;
    flex-direction: column;
    gap: 14px;
    border-top: 3px double var(--rule2);
    border-bottom: 1px solid var(--rule2);
    padding: 22px 4px;
  }
  h1 {
    font-size: 34px;
  }
  p {
    margin: 0;
  }
  label {
    color: var(--soft);
    font-size: 13px;
  }
  button {
    align-self: flex-start;
  }
</style>
