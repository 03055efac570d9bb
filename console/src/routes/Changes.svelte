<script lang="ts">
  import { Select } from 'flowbite-svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Stamp from '../parts/Stamp.svelte';
  import When from '../parts/When.svelte';
  import { get, type Change } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  let wanted = $state('');
  const changes = new Live(() =>
    get<Change[]>(`/repositories/${repo}/changes?limit=100${wanted ? `&state=${wanted}` : ''}`),
  );
  $effect(() => {
    void wanted;
    return follow(repo, changes);
  });
  const answer = $derived.by(() => {
    if (!changes.value) return '';
    const ready = changes.value.filter((c) => c.ready && c.state === 'open').length;
    return `${count(changes.value.length, 'change')}, ${ready} ready to land.`;
  });
  const states = [
    { value: '', name: 'draft and open' },
    { value: 'landed', name: 'landed' },
    { value: 'closed', name: 'closed' },
    { value: 'all', name: 'all' },
  ];
</script>

<Page
  title="Changes"
  {answer}
  problem={changes.problem}
  command={`tavrin change list --repo ${repo}${wanted ? ` --state ${wanted}` : ''}`}
>
  <label class="mb-4 flex max-w-60 items-center gap-2 text-sm"
    >Show <Select items={states} bind:value={wanted} placeholder="" size="sm" /></label
  >
  {#if changes.value}
    <ul class="divide-y divide-rule rounded-lg border border-rule bg-panel">
      {#each changes.value as c (c.number)}
        <li class="grid gap-x-4 gap-y-1 px-4 py-3 sm:grid-cols-[3rem_1fr_auto]">
          <span class="text-right font-mono text-soft">{c.number}</span>
          <div class="min-w-0">
            <a class="font-medium hover:underline" href={`/${repo}/changes/${c.number}`}>{c.title}</a>
            <p class="text-sm break-words text-soft">
              <Mark
                state={c.state === 'landed' ? 'met' : c.ready ? 'met' : c.state === 'open' ? 'unmet' : 'none'}
                size={14}
              />
              {c.state === 'draft' ? 'Draft. ' : c.state === 'closed' ? 'Closed. ' : ''}{c.summary}
            </p>
          </div>
          <div class="text-sm text-soft sm:text-right">
            {#if c.entry}<Stamp state={c.entry.state} /> ·
            {/if}
            <span class="font-mono">{c.source}</span><br class="hidden sm:inline" />
            {c.opened_by}, <When time={c.updated_at} />
          </div>
        </li>
      {:else}
        <li class="px-4 py-6">
          None. Push a branch, then <code>tavrin change open --repo {repo} --source BRANCH --title TEXT</code>.
        </li>
      {/each}
    </ul>
  {/if}
</Page>
