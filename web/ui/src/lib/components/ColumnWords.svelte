<script lang="ts">
  /** Columns chosen among those that there are, by pressing their names; words
   * such as "like m_*" choose by pattern. A single one may be all that is wanted. */
  let {
    columns,
    value,
    change,
    label,
    closed = false,
    readonly = false,
  }: {
    columns: string[];
    value: string[];
    change: (list: string[]) => void;
    label: string;
    /** Only the words listed can be chosen. */
    closed?: boolean;
    readonly?: boolean;
  } = $props();

  const many = 24; // from here on the names are found by typing
  let find = $state('');
  const others = $derived(value.filter((v) => !columns.includes(v)));
  const chosen = $derived(new Set(value));
  const shown = $derived(
    columns.filter((c) => !find.trim() || chosen.has(c) || c.toLowerCase().includes(find.trim().toLowerCase())),
  );
  const toggle = (c: string) => change(chosen.has(c) ? value.filter((v) => v !== c) : [...value, c]);

  /** What is typed is a column's name, or words that choose by what columns are like. */
  function take(text: string) {
    const only = columns.includes(text)
      ? text
      : shown.filter((c) => !chosen.has(c)).length === 1 && !/\s|\*/.test(text)
        ? shown.find((c) => !chosen.has(c))!
        : text;
    if (text && !chosen.has(only)) change([...value, only]);
    find = '';
  }
</script>

<div class="columns" role="group" aria-label={label}>
  {#each others as w, i (i)}
    <button
      class="one words"
      aria-pressed="true"
      aria-label="remove {w}"
      title="Take it out"
      disabled={readonly}
      onclick={() => change(value.filter((v) => v !== w))}>{w} ×</button
    >
  {/each}
  {#each shown as c (c)}
    <button class="one" aria-pressed={chosen.has(c)} disabled={readonly} onclick={() => toggle(c)}>{c}</button>
  {/each}
  {#if !readonly && !closed}
    <input
      class="field data"
      aria-label="{label}: by name or words"
      placeholder={columns.length > many ? `find among ${columns.length}, or: like m_*` : 'or: like m_*, all but x'}
      bind:value={find}
      onkeydown={(e) => {
        if (e.key !== 'Enter') return;
        e.preventDefault();
        take(find.trim());
      }}
      onblur={() => find.trim() && /\s|\*/.test(find) && take(find.trim())}
    />
  {/if}
</div>

<style>
  .columns {
    display: flex;
    flex-wrap: wrap;
    gap: 3px 4px;
    align-items: baseline;
    max-height: 92px;
    overflow: auto;
  }
  .one {
    border: 0;
    border-bottom: 1px solid var(--rule);
    background: none;
    color: var(--soft);
    font: 12.5px var(--data);
    padding: 1px 5px 2px;
    cursor: pointer;
    max-width: 200px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .one:hover:not(:disabled) {
    color: var(--ink);
    border-bottom-color: var(--soft);
  }
  .one[aria-pressed='true'] {
    color: var(--ink);
    background: var(--act-bg);
    border-bottom: 2px solid var(--act);
    padding-bottom: 1px;
  }
  .words {
    font-style: italic;
  }
  input {
    width: 172px;
    flex: none;
  }
</style>
