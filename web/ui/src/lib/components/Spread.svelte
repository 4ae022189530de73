<script lang="ts">
  import type { Snippet } from 'svelte';

  /** A spread: the ledger on the left, the chosen thing's page on the right. The
   * seam between them can be moved, by mouse or by arrow keys, and is remembered. */
  let { name, ledger, page, width = 604 }: { name: string; ledger: Snippet; page?: Snippet; width?: number } = $props();

  const key = $derived(`welkin.seam.${name}`);
  // svelte-ignore state_referenced_locally
  let left = $state(Number(localStorage.getItem(`welkin.seam.${name}`)) || width);
  const limit = (x: number) => Math.max(360, Math.min(window.innerWidth - 400, x));
  let seam = $state<HTMLDivElement>()!;

  function move(x: number) {
    left = limit(x);
    localStorage.setItem(key, String(Math.round(left)));
  }
  function drag(e: PointerEvent) {
    seam.setPointerCapture(e.pointerId);
    const begin = e.clientX - left;
    const on = (m: PointerEvent) => move(m.clientX - begin);
    seam.addEventListener('pointermove', on);
    seam.addEventListener('pointerup', () => seam.removeEventListener('pointermove', on), { once: true });
  }
  function arrows(e: KeyboardEvent) {
    if (e.key === 'ArrowLeft') move(left - 24);
    else if (e.key === 'ArrowRight') move(left + 24);
    else return;
    e.preventDefault();
    e.stopPropagation();
  }
</script>

<div class="spread">
  <section class="ledger" style:width={page ? `${limit(left)}px` : '100%'}>{@render ledger()}</section>
  {#if page}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      bind:this={seam}
      class="seam"
      role="separator"
      aria-label="Seam between ledger and page"
      aria-orientation="vertical"
      aria-valuenow={Math.round(left)}
      aria-valuemin={360}
      aria-valuemax={880}
      tabindex="0"
      onpointerdown={drag}
      onkeydown={arrows}
    ></div>
    <section class="page">{@render page()}</section>
  {/if}
</div>

<style>
  .spread {
    flex: 1;
    display: flex;
    min-height: 0;
    border-top: 1px solid var(--rule);
  }
  .ledger {
    flex: none;
    display: flex;
    flex-direction: column;
    min-height: 0;
    min-width: 0;
  }
  .seam {
    width: 9px;
    flex: none;
    border-left: 1px solid var(--rule2);
    border-right: 1px solid var(--rule2);
    background: var(--sunk);
    cursor: col-resize;
    touch-action: none;
  }
  .page {
    flex: 1;
    min-width: 0;
    display: flex;
    flex-direction: column;
    background: var(--raised);
    min-height: 0;
  }
</style>
