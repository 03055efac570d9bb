<script lang="ts">
  // The pages about one queue, beside one another.
  let { repo, branch, at }: { repo: string; branch: string; at: 'line' | 'numbers' | 'forecast' | 'decisions' } =
    $props();
  const query = $derived(branch ? `?branch=${encodeURIComponent(branch)}` : '');
  const pages = [
    ['line', 'The line', ''],
    ['numbers', 'Numbers', '/numbers'],
    ['forecast', 'Forecast', '/forecast'],
    ['decisions', 'Decisions', '/decisions'],
  ] as const;
</script>

<nav aria-label="About this queue" class="mt-2 flex flex-wrap gap-x-4 gap-y-1 text-sm">
  {#each pages as [key, title, path] (key)}
    <a
      href={`/${repo}/queue${path}${query}`}
      class={key === at
        ? 'border-b-2 border-teal font-semibold'
        : 'border-b-2 border-transparent text-soft hover:underline'}
      aria-current={key === at ? 'page' : undefined}>{title}</a
    >
  {/each}
</nav>
