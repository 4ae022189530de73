<script lang="ts">
  import type { Run } from '../api/client';
  import { stateOf } from '../format';

  let { run }: { run: Pick<Run, 'state' | 'rows_set_aside' | 'phase'> } = $props();
  const s = $derived(stateOf(run));
</script>

<span class="word {s.ink}" class:working={run.state === 'running'}>{s.word}</span>
