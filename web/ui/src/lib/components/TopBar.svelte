<script lang="ts">
  import { route } from '../../router';
  import { may, session, signOut } from '../session.svelte';
  import { chooseTheme, theme, type Theme } from '../theme.svelte';
  import Find from './Find.svelte';
  import Keys from './Keys.svelte';

  const pages = [
    ['/', 'Today'],
    ['/connections', 'Connections'],
    ['/pipelines', 'Pipelines'],
    ['/timetable', 'Timetable'],
    ['/runs', 'Runs'],
  ] as const;
  const here = (to: string) => (to === '/' ? route.pathname === '/' : route.pathname.startsWith(to));

  let menu = $state(false);
  let finding = $state(false);
  let helping = $state(false);

  const typing = (e: KeyboardEvent) =>
    e.target instanceof HTMLElement &&
    e.target.closest('input,textarea,select,[contenteditable=true],.cm-editor') !== null;
  function key(e: KeyboardEvent) {
    if (e.ctrlKey || e.metaKey || e.altKey || typing(e)) return;
    if (e.key === '/') {
      e.preventDefault();
      finding = true;
    } else if (e.key === '?') helping = true;
  }
</script>

<svelte:window onkeydown={key} onclick={() => (menu = false)} />

<header>
  <b>Welkin</b>
  <nav aria-label="Pages">
    {#each pages as [to, name] (to)}
      <a href={to} class:here={here(to)} aria-current={here(to) ? 'page' : undefined}>{name}</a>
    {/each}
  </nav>
  <div class="right">
    <button class="quiet" onclick={() => (finding = true)}><kbd>/</kbd> Find</button>
    <div class="person">
      <button
        class="quiet"
        aria-haspopup="true"
        aria-expanded={menu}
        onclick={(e) => {
          e.stopPropagation();
          menu = !menu;
        }}>{session.person?.name}</button
      >
      {#if menu}
        <div class="menu">
          <p class="note">signed in as {session.person?.login}, {session.person?.role}</p>
          <label
            >Theme
            <select
              class="field"
              value={theme.chosen}
              onclick={(e) => e.stopPropagation()}
              onchange={(e) => chooseTheme(e.currentTarget.value as Theme)}
            >
              <option value="system">as the system</option><option value="day">day</option><option value="night"
                >night</option
              >
            </select>
          </label>
          {#if may('admin')}<a href="/people">People</a>{/if}
          <button class="plain" onclick={() => (helping = true)}>Keys <kbd>?</kbd></button>
          <button class="plain" onclick={() => signOut()}>Sign out</button>
        </div>
      {/if}
    </div>
  </div>
</header>
{#if finding}<Find close={() => (finding = false)} />{/if}
{#if helping}<Keys close={() => (helping = false)} />{/if}

<style>
  header {
    display: flex;
    align-items: baseline;
    gap: 20px;
    padding: 10px 20px 9px;
    border-bottom: 1px solid var(--rule2);
    flex: none;
  }
  b {
    font: 700 19px/1 var(--title);
    letter-spacing: -0.01em;
    margin-right: 8px;
  }
  nav {
    display: flex;
    gap: 16px;
  }
  nav a {
    color: var(--soft);
    padding-bottom: 2px;
  }
  nav a.here {
    color: var(--ink);
    font-weight: 650;
    border-bottom: 2px solid var(--act);
  }
  .right {
    margin-left: auto;
    display: flex;
    gap: 14px;
    align-items: baseline;
  }
  .quiet {
    border: 0;
    background: none;
    color: var(--soft);
    font: 13px var(--text);
    cursor: pointer;
    padding: 0;
  }
  .quiet:hover {
    color: var(--ink);
  }
  .person {
    position: relative;
  }
  .menu {
    position: absolute;
    right: 0;
    top: 24px;
    z-index: 30;
    background: var(--raised);
    border: 1px solid var(--rule2);
    padding: 10px 14px;
    width: 210px;
    display: flex;
    flex-direction: column;
    gap: 9px;
    align-items: flex-start;
    font-size: 13.5px;
  }
  .menu p {
    margin: 0;
  }
</style>
