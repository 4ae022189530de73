<script lang="ts">
  import SchemaForm, { type Schema } from '../../components/SchemaForm.svelte';
  import type { FormProps } from './settings';

  /** The settings that a form of its own leaves to the form drawn from the schema. */
  let { props, only, without = [] }: { props: FormProps; only?: string[]; without?: string[] } = $props();
</script>

<SchemaForm
  schema={props.kind.schema as Schema}
  value={props.step.settings}
  change={props.change}
  suggest={props.suggest}
  problems={props.problems}
  {only}
  {without}
  readonly={props.readonly}
/>
