<script lang="ts" generics="T">
  // What is loaded, once it is; until then that it is being loaded, and what went wrong where it was not.
  import type { Snippet } from 'svelte';
  import type { Live } from '../lib/live.svelte';
  let { of, children }: { of: Live<T>; children: Snippet<[T]> } = $props();
</script>

{#if of.value !== undefined}
  {@render children(of.value)}
{:else if of.problem}
  <p class="text-rust">{of.problem}</p>
{:else}
  <p class="text-soft" role="status">Loading …</p>
{/if}
