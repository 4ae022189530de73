<script lang="ts">
  import type { StepDoc } from './editor.svelte';

  /** What looking at files has found of how they are written; it can be written down into
   * the step, and then changed. */
  let {
    found,
    files,
    step,
    columns,
    readonly,
    change,
  }: {
    found: FoundFiles;
    files: number;
    step: StepDoc;
    /** The columns as they would be written down. */
    columns: () => { name: string; type: string }[];
    readonly: boolean;
    change: (settings: Record<string, unknown>) => void;
  } = $props();

  interface FoundFiles {
    format: string;
    why: string[];
    dialect?: Record<string, unknown>;
    layout?: unknown;
    workbook?: Record<string, unknown>;
    sheets?: string[];
    records?: string;
  }
  const set = (part: Record<string, unknown>) => change({ ...step.settings, ...part });
  const file = $derived(String(step.settings.files ?? ''));
  const draw = $derived(
    `/layouts/new?connection=${encodeURIComponent(String(step.settings.connection ?? ''))}&file=${encodeURIComponent(file)}`,
  );
</script>

<p class="note found">
  {files}
  {files === 1 ? 'file' : 'files'}, {found.format}. {#if found.why.length}Found by looking: {found.why.join('; ')}.{/if}
  {#if !readonly}
    {#if found.dialect && !step.settings.dialect}<button class="plain" onclick={() => set({ dialect: found.dialect })}
        >Change how they are read</button
      >{/if}
    {#if found.workbook && !step.settings.workbook}<button
        class="plain"
        onclick={() => set({ workbook: found.workbook })}>Change sheet or range</button
      >{/if}
    {#if found.records !== undefined && !step.settings.records}<button
        class="plain"
        onclick={() => set({ records: found.records })}>Change where records stand</button
      >{/if}
    {#if found.layout && !step.settings.layout && !step.settings.fields}
      <button class="plain" onclick={() => set({ format: found.format, fields: found.layout })}
        >Write the fields down</button
      >
      <a class="plain" href={draw}>Draw the fields</a>
    {/if}
    {#if !step.settings.columns}<button class="plain" onclick={() => set({ columns: columns() })}
        >Write the columns down</button
      >{/if}
  {/if}
  {#if (found.sheets?.length ?? 0) > 1}Sheets: {found.sheets?.join(', ')}.{/if}
</p>

<style>
  .found {
    margin: 8px 0 0;
    font-size: 12.5px;
  }
</style>
