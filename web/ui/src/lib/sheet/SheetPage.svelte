<script lang="ts">
  import { client, take } from '../api/client';
  import SchemaForm, { type Schema } from '../components/SchemaForm.svelte';
  import Examples from './Examples.svelte';
  import Versions from './Versions.svelte';
  import type { Editor, SheetDoc } from './editor.svelte';

  /** What belongs to the whole sheet: description, parameters, limits. */
  let {
    editor,
    readonly,
    types,
    select,
  }: { editor: Editor; readonly: boolean; types: string[]; select: (step: string) => void } = $props();

  const place = $derived(editor.doc.steps.length ? editor.checked?.place : undefined);
  let plan = $state('');
  let telling = $state('');
  let asking = $state(false);
  $effect(() => {
    void place?.statement; // a plan is for the statement that was asked about
    plan = telling = '';
  });
  async function explain() {
    asking = true;
    telling = '';
    try {
      plan = (await take(client.POST('/api/sheets/explain', { body: { doc: editor.doc as unknown } }))).plan;
    } catch (e) {
      telling = (e as Error).message;
    }
    asking = false;
  }

  const WHERE_IT_CAN = 'where it can';
  const schema: Schema = {
    type: 'object',
    properties: {
      description: { type: 'string', title: 'description' },
      parameters: {
        type: 'array',
        title: 'parameters',
        items: {
          type: 'object',
          required: ['name', 'type'],
          properties: {
            name: { type: 'string', title: 'name', description: 'Settings write it as :name' },
            type: { type: 'string', title: 'type' },
            default: { type: 'string', title: 'default' },
            note: { type: 'string', title: 'note' },
          },
        },
      },
      set_aside: {
        type: 'number',
        title: 'most rows aside',
        description: 'A run that sets more rows aside stops and loads nothing',
      },
      share: { type: 'number', title: 'most per cent' },
      engine: {
        type: 'string',
        title: 'runs in',
        enum: [WHERE_IT_CAN, 'database', 'own'],
        description:
          'database: as a statement where its tables lie; own: in Welkin; left open it runs in the database when it can',
      },
    },
  };
  const value = $derived({
    description: editor.doc.description ?? '',
    parameters: editor.doc.parameters ?? [],
    set_aside: editor.doc.limits.set_aside || undefined,
    share: editor.doc.limits.share || undefined,
    engine: editor.doc.engine,
  });
  function change(v: Record<string, unknown>) {
    editor.edit((d) => {
      d.description = (v.description as string | undefined) ?? '';
      d.parameters = ((v.parameters ?? []) as { name: string; type: string }[]).map((p) => ({
        ...p,
        type: p.type || 'text',
      })) as SheetDoc['parameters'];
      if (v.engine && v.engine !== WHERE_IT_CAN) d.engine = v.engine as string;
      else delete d.engine;
      d.limits = { set_aside: (v.set_aside as number | undefined) ?? 0, share: (v.share as number | undefined) ?? 0 };
    });
  }
</script>

<div class="scroll sec">
  <h2>The sheet</h2>
  <p class="note">
    Choose a step on the left to see its settings and its rows. Here stands what belongs to the whole: expressions name
    a parameter as <code>:name</code>; a run that sets more rows aside than the limits allow stops and loads nothing.
  </p>
  <SchemaForm
    {schema}
    {value}
    {change}
    suggest={(p) => (p.endsWith('.type') ? types.map((t) => t.replace('(p,s)', '(10,2)')) : [])}
    {readonly}
  />
  {#if place}
    <h2 class="where">Where it runs</h2>
    {#if place.able}
      <p class="note">
        {place.database
          ? `In the database of ${place.database}, as the statement below. A row the database can't compute ends it; then Welkin's engine does the run and sets that row aside.`
          : "In Welkin's engine, as the sheet says. It could run in the database by the statement below."}
        <button class="plain" disabled={asking} onclick={explain}>Ask the database for its plan</button>
      </p>
      {#if telling}<p class="telling" role="alert">{telling}</p>{/if}
      {#if plan}<pre class="data" aria-label="The database's plan">{plan}</pre>{/if}
      <pre class="data" aria-label="The statement">{place.statement}</pre>
    {:else}
      <p class="note">In Welkin's engine: {place.why}.</p>
    {/if}
  {/if}
  <Examples {editor} {readonly} {select} />
  <Versions {editor} {readonly} />
</div>

<style>
  .where {
    margin-top: 22px;
  }
  pre {
    font-size: 11.5px;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    border-left: 2px solid var(--rule2);
    padding-left: 12px;
    margin: 8px 0 14px;
  }
</style>
