<script lang="ts">
  import type { Check } from '../lib/api';
  import Id from './Id.svelte';
  import Stamp from './Stamp.svelte';
  let {
    checks,
    title,
    previews = [],
  }: { checks: Check[]; title: string; /** names of deployments */ previews?: string[] } = $props();
  const took = (seconds: number) =>
    seconds < 60 ? `${Math.round(seconds)} s` : `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`;
</script>

<h3 class="text-sm font-medium text-soft">{title}</h3>
<ul class="mb-3">
  {#each checks as k (k.name)}
    <li class="py-1">
      <div class="flex flex-wrap items-baseline gap-x-3 text-sm">
        <Stamp state={k.state} />
        <span class="font-medium">{k.name}</span>
        {#if k.ran_on}<span class="text-soft">ran on <Id id={k.ran_on} />, the same tree</span>{/if}
        {#if k.attempt > 1}<span class="text-soft">attempt {k.attempt}</span>{/if}
        {#if k.by}<span class="text-soft">by {k.by}</span>{/if}
        <span class="break-words">{k.summary}</span>
        {#if k.seconds && k.seconds >= 1}<span class="text-soft">{took(k.seconds)}</span>{/if}
        {#if k.link}<a class="plain-link" href={k.link} rel="noopener noreferrer" target="_blank"
            >{previews.includes(k.name) ? 'open the preview' : 'more'}</a
          >{/if}
      </div>
      {#if k.numbers}
        <p class="ml-6 text-sm text-soft">
          {Object.entries(k.numbers)
            .map(([name, n]) => `${name} ${n}`)
            .join(', ')}
        </p>
      {/if}
      {#if k.parts}
        <ul class="ml-6 text-sm">
          {#each k.parts as part (part.name)}
            <li>
              <Stamp state={part.state} />
              {part.name}
              {part.summary ?? ''}
              {#if part.link}<a class="plain-link" href={part.link} rel="noopener noreferrer" target="_blank">more</a
                >{/if}
            </li>
          {/each}
        </ul>
      {/if}
      {#if k.annotations}
        <ul class="ml-6 text-sm">
          {#each k.annotations as a, n (n)}
            <li class="break-words">
              <span class="font-mono">{a.path}:{a.line}</span>
              <span class="font-medium">{a.level}</span>
              {a.text}
            </li>
          {/each}
        </ul>
      {/if}
      {#if k.log}
        <details class="ml-6 text-sm" open={['failed', 'errored'].includes(k.state)}>
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
