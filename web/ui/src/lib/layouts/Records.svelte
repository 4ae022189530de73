<script lang="ts">
  import type { LayoutField } from '../api/client';
  import { addField, bytesAt, end, fieldAt, inOrder, moveEnd } from './layout';

  /** Records on which fields are drawn: their edges are dragged, or moved by the arrow keys;
   * a new field is drawn over characters that belong to none. */
  let {
    lines,
    bytes,
    byBytes,
    fields,
    chosen,
    along,
    readonly,
    change,
    choose,
  }: {
    lines: string[];
    bytes: string[];
    byBytes: boolean;
    fields: LayoutField[];
    chosen: string;
    along: boolean;
    readonly: boolean;
    change: (fields: LayoutField[]) => void;
    choose: (name: string) => void;
  } = $props();

  const width = $derived(Math.max(40, ...lines.map((l) => [...l].length), ...fields.map((f) => end(f) - 1)) + 2);
  const drawn = $derived(inOrder(fields));
  let paper = $state<HTMLElement>()!;
  let place = $state(0);
  let row = $state(0);
  let from = $state(0);

  const letter = () => paper.getBoundingClientRect().width / width;
  const placeOf = (e: PointerEvent) =>
    Math.max(1, Math.min(width, Math.floor((e.clientX - paper.getBoundingClientRect().left) / letter()) + 1));
  const edgeOf = (e: PointerEvent) =>
    Math.max(1, Math.round((e.clientX - paper.getBoundingClientRect().left) / letter()) + 1);

  function drag(e: PointerEvent, name: string) {
    if (readonly) return;
    const handle = e.currentTarget as HTMLElement;
    e.preventDefault();
    e.stopPropagation();
    handle.setPointerCapture(e.pointerId);
    handle.focus();
    const begun = fields;
    choose(name);
    const on = (m: PointerEvent) => change(moveEnd(begun, name, edgeOf(m), along));
    handle.addEventListener('pointermove', on);
    handle.addEventListener('pointerup', () => handle.removeEventListener('pointermove', on), { once: true });
  }
  function keys(e: KeyboardEvent, f: LayoutField) {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    if (!by || readonly) return;
    e.preventDefault();
    e.stopPropagation();
    change(moveEnd(fields, f.name, end(f) + by, along));
  }
  function begin(e: PointerEvent) {
    const at = placeOf(e);
    const hit = fieldAt(fields, at);
    if (hit) choose(hit.name);
    else if (!readonly) {
      from = at;
      paper.setPointerCapture(e.pointerId);
    }
  }
  function over(e: PointerEvent) {
    place = placeOf(e);
    const box = paper.getBoundingClientRect();
    row = Math.max(0, Math.min(lines.length - 1, Math.floor(((e.clientY - box.top) / box.height) * lines.length)));
  }
  function finish(e: PointerEvent) {
    if (!from) return;
    const added = addField(fields, from, placeOf(e));
    from = 0;
    if (!added) return;
    const fresh = added.find((f) => !fields.some((x) => x.name === f.name));
    change(added);
    if (fresh) choose(fresh.name);
  }
  const shown = $derived(
    place && lines[row] !== undefined ? bytesAt(lines[row]!, bytes[row] ?? '', place, byBytes) : '',
  );
</script>

<div class="box">
  <div class="ruler" style:width="{width}ch" aria-hidden="true">
    {#each { length: Math.ceil(width / 10) }, i (i)}<span style:left="{i * 10}ch"><small>{i * 10 + 1}</small></span
      >{/each}
  </div>
  <!-- svelte-ignore a11y_no_static_element_interactions -->
  <div
    class="paper"
    bind:this={paper}
    style:width="{width}ch"
    onpointerdown={begin}
    onpointermove={over}
    onpointerup={finish}
    onpointerleave={() => (place = 0)}
  >
    {#each drawn as f, i (f.name)}
      <div
        class="area"
        class:odd={i % 2 === 1}
        class:on={f.name === chosen}
        style:left="{f.start - 1}ch"
        style:width="{f.length}ch"
        data-field={f.name}
      ></div>
    {/each}
    {#if from && place}
      <div
        class="area fresh"
        style:left="{Math.min(from, place) - 1}ch"
        style:width="{Math.abs(place - from) + 1}ch"
      ></div>
    {/if}
    {#each lines as l, i (i)}<pre>{l || ' '}</pre>{/each}
    {#each drawn as f (f.name)}
      <div
        class="edge"
        class:on={f.name === chosen}
        style:left="calc({end(f) - 1}ch - 3px)"
        role="slider"
        tabindex="0"
        aria-label="End of {f.name}"
        aria-valuenow={end(f) - 1}
        aria-valuemin={f.start}
        aria-valuemax={width}
        onpointerdown={(e) => drag(e, f.name)}
        onkeydown={(e) => keys(e, f)}
        onfocus={() => choose(f.name)}
      ></div>
    {/each}
  </div>
</div>
<p class="note under">
  {#if place}character {place}{#if shown}, byte {shown}{/if}{#if fieldAt(fields, place)}, in <code
        >{fieldAt(fields, place)?.name}</code
      >{/if}{:else}Drag an edge, or over characters that belong to no field; an edge also moves by the arrow keys.{/if}
</p>

<style>
  .box {
    overflow-x: auto;
    padding: 0 18px;
    font: 13px/20px var(--data);
  }
  .ruler {
    position: relative;
    height: 16px;
    font-size: 13px;
    color: var(--soft);
    border-bottom: 1px solid var(--rule);
  }
  .ruler span {
    position: absolute;
  }
  small {
    font-size: 10.5px;
  }
  .paper {
    position: relative;
    touch-action: none;
    cursor: crosshair;
    user-select: none;
  }
  pre {
    margin: 0;
    font: inherit;
    position: relative;
    pointer-events: none;
  }
  .area {
    position: absolute;
    top: 0;
    bottom: 0;
    background: color-mix(in srgb, var(--act) 9%, transparent);
  }
  .area.odd {
    background: color-mix(in srgb, var(--soft) 12%, transparent);
  }
  .area.on {
    background: color-mix(in srgb, var(--act) 24%, transparent);
  }
  .area.fresh {
    outline: 1px dashed var(--act);
  }
  .edge {
    position: absolute;
    top: 0;
    bottom: 0;
    width: 6px;
    cursor: col-resize;
    touch-action: none;
  }
  .edge::after {
    content: '';
    position: absolute;
    left: 2px;
    top: 0;
    bottom: 0;
    width: 1px;
    background: var(--act);
  }
  .edge.on::after,
  .edge:focus-visible::after {
    width: 2px;
  }
  .under {
    margin: 4px 18px 8px;
    min-height: 18px;
  }
</style>
