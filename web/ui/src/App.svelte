<script lang="ts">
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import { Router } from 'sv-router';
  import './router';

  import TopBar from './lib/components/TopBar.svelte';
  import { loadSession, session } from './lib/session.svelte';
  import SignIn from './pages/SignIn.svelte';

  const queries = new QueryClient({
    defaultOptions: { queries: { retry: false, refetchOnWindowFocus: true, staleTime: 2000 } },
  });
  let failed = $state('');
  loadSession().catch((e: Error) => (failed = e.message));
</script>

<QueryClientProvider client={queries}>
  {#if failed}
    <p class="telling" role="alert">{failed}</p>
  {:else if session.person === null}
    <SignIn />
  {:else if session.person}
    <TopBar />
    <main><Router /></main>
  {/if}
</QueryClientProvider>

<style>
  main {
    flex: 1;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
</style>
