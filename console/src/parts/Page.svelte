<script lang="ts">
  // What every page has: a place, a heading, the answer first, and room for a problem.
  import type { Snippet } from 'svelte';
  import Command from './Command.svelte';
  let {
    title,
    answer,
    problem,
    command,
    under,
    children,
  }: {
    title: string;
    /** what the page has to say in a sentence; absent: it is being loaded */
    answer?: string;
    problem?: string;
    command?: string;
    /** what belongs to the title */
    under?: Snippet;
    children: Snippet;
  } = $props();
</script>

<svelte:head><title>{title} · Tavrin</title></svelte:head>

<h1 class="text-2xl font-semibold tracking-tight">{title}</h1>
{@render under?.()}
{#if answer || !problem}<p class="mt-1 max-w-prose text-soft" aria-live="polite">{answer ?? 'Loading …'}</p>{/if}
{#if problem}
  <p role="alert" class="mt-4 border-l-4 border-rust bg-panel p-3 text-rust">{problem}</p>
{/if}
<div class="mt-6">{@render children()}</div>
{#if command}<Command {command} />{/if}
