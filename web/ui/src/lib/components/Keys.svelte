<script lang="ts">
  let { close }: { close: () => void } = $props();
  const keys = [
    ['/', 'find anything; in a sheet its steps and columns'],
    ['↑ ↓', 'move through a list or a sheet'],
    ['← →', 'to the step a step reads, to the one that reads it'],
    ['Enter', 'edit the chosen step; in rows, all of a cell'],
    ['a', 'add a step after the chosen one'],
    ['d', 'duplicate the step'],
    ['Delete', 'remove the step'],
    ['u  U', 'undo, redo'],
    ['t', 'try the chosen step'],
    ['g  f', 'gather steps into a stretch, fold it'],
    ['r', 'run now'],
    ['Ctrl C  V', 'copy the step or the marked cells, paste steps'],
    ['Ctrl S', 'save the sheet'],
    ['?', 'this list'],
    ['Esc', 'leave a field, close a list'],
  ];
</script>

<svelte:window onkeydown={(e) => e.key === 'Escape' && close()} />
<div class="over" role="presentation" onclick={close}></div>
<div class="keys" role="dialog" aria-label="Keys">
  <h2>Keys</h2>
  <dl>
    {#each keys as [k, what] (k)}
      <dt><kbd>{k}</kbd></dt>
      <dd>{what}</dd>
    {/each}
  </dl>
  <button class="plain" onclick={close}>Close</button>
</div>

<style>
  .over {
    position: fixed;
    inset: 0;
    z-index: 40;
  }
  .keys {
    position: fixed;
    top: 41px;
    right: 20px;
    width: 320px;
    z-index: 41;
    background: var(--raised);
    border: 1px solid var(--rule2);
    border-top: 2px solid var(--act);
    padding: 14px 18px;
  }
  dl {
    display: grid;
    grid-template-columns: 84px 1fr;
    gap: 6px 0;
    margin: 10px 0 12px;
    font-size: 13.5px;
  }
  dd {
    margin: 0;
  }
</style>
