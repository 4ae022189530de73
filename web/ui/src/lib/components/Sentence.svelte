<script lang="ts">
  import { spans } from '../format';

  let { text }: { text: string } = $props();
</script>

{#each spans(text) as s, i (i)}{#if s.data}<code>{s.text}</code>{:else}{s.text}{/if}{/each}

<style>
  code {
    font-size: 0.92em;
  }
</style>
