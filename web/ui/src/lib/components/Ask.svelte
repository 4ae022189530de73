<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';

  /** Asks before something is destroyed, and says what will be gone. */
  let {
    title,
    gone,
    verb,
    open = $bindable(false),
    yes,
  }: { title: string; gone: string; verb: string; open: boolean; yes: () => void } = $props();
</script>

<Dialog {open} onOpenChange={(e) => (open = e.open)} role="alertdialog">
  <Portal>
    <Dialog.Backdrop class="fixed inset-0 z-50" style="background: color-mix(in srgb, var(--ink) 25%, transparent)" />
    <Dialog.Positioner class="fixed inset-0 z-50 flex items-start justify-center pt-28">
      <Dialog.Content class="ask">
        <Dialog.Title class="text-[17px] font-semibold">{title}</Dialog.Title>
        <Dialog.Description>{gone}</Dialog.Description>
        <div class="acts">
          <Dialog.CloseTrigger class="push">Keep it</Dialog.CloseTrigger>
          <button
            class="push danger"
            onclick={() => {
              open = false;
              yes();
            }}>{verb}</button
          >
        </div>
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>

<style>
  :global(.ask) {
    background: var(--raised);
    border: 1px solid var(--rule2);
    border-top: 2px solid var(--look);
    padding: 18px 22px;
    width: 400px;
    display: flex;
    flex-direction: column;
    gap: 10px;
  }
  .danger {
    border-color: var(--look);
    color: var(--look);
  }
</style>
