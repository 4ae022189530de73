<script lang="ts">
  /** The whole of a long sheet beside it: a mark a line, what is wrong or set aside
   * told apart, and the part that is in view. Pressing a place goes there. */
  let {
    marks,
    top,
    tall,
    whole,
    go,
  }: {
    marks: { id: string; what: string; look: 'plain' | 'wrong' | 'aside' | 'on' | 'stretch' }[];
    top: number;
    tall: number;
    whole: number;
    go: (share: number) => void;
  } = $props();

  let height = $state(300);
  const each = $derived(Math.min(9, height / Math.max(1, marks.length)));
  const used = $derived(each * marks.length);
  const ink = {
    plain: 'var(--faint)',
    wrong: 'var(--look)',
    aside: 'var(--aside)',
    on: 'var(--act)',
    stretch: 'var(--ink)',
  };
  const wide = { plain: 8, wrong: 16, aside: 12, on: 16, stretch: 14 };
  const to = (e: PointerEvent) => {
    const box = (e.currentTarget as HTMLElement).getBoundingClientRect();
    go((e.clientY - box.top) / Math.max(1, used));
  };
</script>

<!-- What it does can be done by the keys of the ledger; it is a second way for the mouse. -->
<div
  class="overview"
  bind:clientHeight={height}
  aria-hidden="true"
  title="The whole sheet; press to go there"
  onpointerdown={to}
  onpointermove={(e) => e.buttons && to(e)}
>
  <svg width="22" {height}>
    {#if whole > 0}<rect
        class="view"
        x="0"
        y={(top / whole) * used}
        width="22"
        height={Math.min(1, tall / whole) * used}
      />{/if}
    {#each marks as m, i (m.id)}
      <rect x="3" y={i * each + each * 0.25} width={wide[m.look]} height={Math.max(1, each * 0.4)} fill={ink[m.look]}
        ><title>{m.what}</title></rect
      >
    {/each}
  </svg>
</div>

<style>
  .overview {
    position: absolute;
    top: 0;
    bottom: 0;
    right: 0;
    width: 22px;
    border-left: 1px solid var(--rule);
    background: var(--paper);
    cursor: pointer;
    z-index: 3;
  }
  .view {
    fill: var(--act-bg);
  }
</style>
