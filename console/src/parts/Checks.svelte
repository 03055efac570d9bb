<script lang="ts">
  import type { Check } from '../lib/api';
  import Stamp from './Stamp.svelte';
  let { checks, title }: { checks: Check[]; title: string } = $props();
</script>

<h3 class="text-sm font-medium text-soft">{title}</h3>
<ul class="mb-3">
  {#each checks as k (k.name)}
    <li class="py-1">
      <div class="flex flex-wrap items-baseline gap-x-3 text-sm">
        <Stamp state={k.state} />
        <span class="font-medium">{k.name}</span>
        {#if k.attempt > 1}<span class="text-soft">attempt {k.attempt}</span>{/if}
        {#if k.by}<span class="text-soft">by {k.by}</span>{/if}
        <span class="break-words">{k.summary}</span>
        {#if k.link}<a class="plain-link" href={k.link} rel="noopener noreferrer" target="_blank">more</a>{/if}
      </div>
      {#if k.log}
        <details class="ml-6 text-sm">
          <summary class="cursor-pointer text-soft">the end of its log</summary>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre class="max-h-72 overflow-auto rounded bg-sheet p-2 font-mono text-xs" tabindex="0">{k.log}</pre>
        </details>
      {/if}
    </li>
  {:else}
    <li class="text-sm text-soft">none reported</li>
  {/each}
</ul>
