<script lang="ts">
  /** A small line of figures, the last one marked. */
  let {
    values,
    width = 420,
    ink = 'var(--ink)',
    label,
  }: { values: number[]; width?: number; ink?: string; label: string } = $props();

  const tall = 26;
  const x = (i: number) => (values.length < 2 ? width / 2 : 4 + (i * (width - 8)) / (values.length - 1));
  const y = (v: number) => {
    const low = Math.min(...values);
    const high = Math.max(...values);
    return high === low ? tall / 2 : tall - 5 - ((v - low) / (high - low)) * (tall - 10);
  };
</script>

<svg {width} height={tall} role="img" aria-label={label}>
  <path
    d={values.map((v, i) => `${i ? 'L' : 'M'}${x(i)} ${y(v)}`).join('')}
    fill="none"
    stroke="var(--rule2)"
    stroke-width="1.5"
  />
  {#if values.length}
    <circle cx={x(values.length - 1)} cy={y(values[values.length - 1]!)} r="3" fill={ink} />
  {/if}
</svg>
