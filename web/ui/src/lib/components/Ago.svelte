<script lang="ts">
  import { ago, exact } from '../format';

  let { time }: { time: string | undefined } = $props();
  let now = $state(new Date());
  $effect(() => {
    const t = setInterval(() => (now = new Date()), 15_000);
    return () => clearInterval(t);
  });
</script>

{#if time}<time datetime={time} title={exact(time)}>{ago(time, now)}</time>{/if}
