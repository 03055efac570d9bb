<script lang="ts">
  // In what two documents differ, and what of it loosens.
  import type { Difference } from '../lib/api';
  let { differences }: { differences: Difference[] } = $props();
</script>

<ul class="divide-y divide-rule text-sm">
  {#each differences as d, i (i)}
    <li class="py-1.5">
      <span class="font-medium">{d.what}</span>
      <span class="text-soft">line {d.line}</span>
      {#if d.loosens}<span class="ml-1 rounded border border-ochre px-1 text-xs text-ochre">loosens</span>{/if}
      {#if d.why}<span class="block text-soft">{d.why}</span>{/if}
      <span class="block break-words">
        {#if d.was}<del class="bg-removed px-1 no-underline">− {d.was}</del>{/if}
        {#if d.now}<ins class="bg-added px-1 no-underline">+ {d.now}</ins>{/if}
      </span>
    </li>
  {:else}
    <li class="py-1.5 text-soft">No difference.</li>
  {/each}
</ul>
