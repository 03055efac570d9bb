<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import When from '../parts/When.svelte';
  import { answer, api } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';

  let { house = '', name = '' }: { house?: string; name?: string } = $props();
  const repo = $derived(name ? `${house}/${name}` : '');
  let limit = $state(60);
  const lines = new Live(
    () => answer(api.GET('/journal', { params: { query: { limit, repository: repo || undefined } } })),
    () => ({ repository: repo || undefined }),
  );
  $effect(() => {
    void limit;
    return follow(lines);
  });
</script>

<Page
  title="Journal"
  answer="Everything that was decided or done, newest first. Each line carries the hash of the one before."
  problem={lines.problem}
  command={repo ? `tavrin journal list --repo ${repo}` : 'tavrin journal list --all'}
>
  <ol class="divide-y divide-rule rounded-lg border border-rule bg-panel">
    {#each lines.value ?? [] as l (l.seq)}
      <li class="grid gap-x-4 gap-y-1 px-4 py-2 text-sm sm:grid-cols-[4rem_10rem_1fr_auto]">
        <span class="font-mono text-soft sm:text-right" title={l.hash}>{l.seq}</span>
        <span class="font-mono text-soft">{l.kind}</span>
        <span class="min-w-0 break-words">{l.text}</span>
        <span class="text-soft"><When time={l.at} /></span>
      </li>
    {:else}
      <li class="px-4 py-6">{lines.value ? 'Nothing has happened yet.' : 'Loading …'}</li>
    {/each}
  </ol>
  {#if lines.value && lines.value.length >= limit && limit < 500}
    <Button class="mt-3" size="sm" color="alternative" onclick={() => (limit = Math.min(500, limit * 2))}
      >Show more</Button
    >
  {/if}
</Page>
