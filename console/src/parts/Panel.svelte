<script lang="ts">
  import type { Snippet } from 'svelte';
  let { title, id, note, children }: { title: string; id?: string; note?: string; children: Snippet } = $props();
</script>

<section {id} class="mb-6 min-w-0 scroll-mt-4 rounded-lg border border-rule bg-panel">
  <header class="flex flex-wrap items-baseline justify-between gap-2 border-b border-rule px-4 py-2">
    <h2 class="font-semibold">{title}</h2>
    {#if note}<span class="text-sm text-soft">{note}</span>{/if}
  </header>
  <div class="px-4 py-3">{@render children()}</div>
</section>
