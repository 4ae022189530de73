<script lang="ts">
  /** Moves an entry of a list up and down, and takes it out. */
  let { what, up, down, remove }: { what: string; up?: () => void; down?: () => void; remove?: () => void } = $props();
</script>

<span class="tools">
  {#if up}<button class="plain" title="up" aria-label="move {what} up" onclick={up}>↑</button>{/if}
  {#if down}<button class="plain" title="down" aria-label="move {what} down" onclick={down}>↓</button>{/if}
  {#if remove}<button class="plain" title="remove" aria-label="remove {what}" onclick={remove}>×</button>{/if}
</span>

<style>
  .tools {
    display: flex;
    gap: 8px;
    justify-content: flex-end;
  }
</style>
