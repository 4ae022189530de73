<script lang="ts">
  import type { Difference } from '../api/client';
  import Sentence from '../components/Sentence.svelte';

  /** What differs between two versions, line by line in words. */
  let { list, none }: { list: Difference[]; none: string } = $props();
</script>

<ul>
  {#each list as d, i (i)}
    <li><span class="note what">{d.what}</span> <Sentence text={d.sentence} /></li>
  {:else}<li class="note">{none}</li>{/each}
</ul>

<style>
  ul {
    list-style: none;
    margin: 4px 0 8px;
    padding: 0;
    font-size: 13px;
  }
  li {
    padding: 2px 0 2px 76px;
    text-indent: -76px;
    overflow-wrap: anywhere;
  }
  .what {
    display: inline-block;
    width: 70px;
    text-indent: 0;
  }
  li.note {
    padding-left: 0;
    text-indent: 0;
  }
</style>
