<script lang="ts">
  import SchemaForm, { type Schema } from '../components/SchemaForm.svelte';
  import type { Editor, SheetDoc } from './editor.svelte';

  /** What belongs to the whole sheet: description, parameters, limits. */
  let { editor, readonly, types }: { editor: Editor; readonly: boolean; types: string[] } = $props();

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
    },
  };
  const value = $derived({
    description: editor.doc.description ?? '',
    parameters: editor.doc.parameters ?? [],
    set_aside: editor.doc.limits.set_aside || undefined,
    share: editor.doc.limits.share || undefined,
  });
  function change(v: Record<string, unknown>) {
    editor.edit((d) => {
      d.description = (v.description as string | undefined) ?? '';
      d.parameters = ((v.parameters ?? []) as { name: string; type: string }[]).map((p) => ({
        ...p,
        type: p.type || 'text',
      })) as SheetDoc['parameters'];
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
</div>
