<script lang="ts">
  import { untrack } from 'svelte';

  import { layout, path, type LaneStep } from './lanes';

  /** The lanes beside a sheet's lines, each of which is `tall` pixels high. */
  let { steps, roles, tall }: { steps: LaneStep[]; roles: string[]; tall: number } = $props();

  // An edit of settings leaves them as they are.
  const shape = $derived(steps.map((s) => `${s.id}<${s.inputs.join('+')}`).join('|'));
  const l = $derived.by(() => {
    void shape;
    return untrack(() => layout(steps));
  });
  const gap = $derived(l.count > 4 ? Math.max(6, 50 / l.count) : 18);
  const x = (lane: number) => 24 + lane * gap;
  const y = (row: number) => row * tall + tall / 2;
  const ink = (lane: number) => `var(--l${(lane % 6) + 1})`;
  const dash = (lane: number) => ['', '5 3', '2 3', '8 3', '5 2 1 2', '1 3'][lane % 6];
</script>

<svg width="74" height={steps.length * tall} fill="none" stroke-width="2" aria-hidden="true">
  {#each l.lines as line, i (i)}
    <path d={path(line, x, y)} stroke={ink(line.run)} stroke-dasharray={dash(line.run)} />
  {/each}
  {#each steps as s, row (row)}
    {@const lane = l.lane[row] ?? 0}
    {#if roles[row] === 'write'}
      <path d="M{x(lane) - 6} {y(row)}h12" stroke={ink(lane)} stroke-width="4" />
    {:else if roles[row] === 'stretch'}
      <rect x={x(lane) - 4} y={y(row) - 9} width="8" height="18" rx="4" fill={ink(lane)} stroke="var(--paper)" />
    {:else}
      <circle
        cx={x(lane)}
        cy={y(row)}
        r={roles[row] === 'read' || s.inputs.length > 1 ? 5 : 4}
        fill={ink(lane)}
        stroke="var(--paper)"
      />
    {/if}
  {/each}
</svg>

<style>
  svg {
    position: absolute;
    left: 0;
    top: 0;
    pointer-events: none;
    z-index: 2;
  }
</style>
