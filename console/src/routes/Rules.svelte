<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import When from '../parts/When.svelte';
  import { get, type BranchRules, type Rules } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  let branch = $state(here().query.get('branch') ?? 'main');
  let typed = $state(here().query.get('branch') ?? 'main');
  let lit = $state<number[]>([]);
  const rules = new Live(() => get<Rules>(`/repositories/${repo}/rules`));
  const explained = new Live(() =>
    get<BranchRules>(`/repositories/${repo}/explain?branch=${encodeURIComponent(branch)}`),
  );
  $effect(() => {
    void branch;
    return follow(repo, rules, explained);
  });
  const lines = $derived(rules.value?.text.replace(/\n$/, '').split('\n') ?? []);
  function show(sources: { line: number }[]) {
    lit = sources.map((s) => s.line);
    document.getElementById(`line-${lit[0]}`)?.scrollIntoView({ block: 'nearest' });
  }
</script>

<Page
  title="Rules"
  answer={explained.value &&
    (explained.value.protected
      ? `${branch} is protected by ${explained.value.protections.join(', ')}.`
      : `No protection matches ${branch}.`)}
  problem={rules.problem ?? explained.problem}
  command={`tavrin rules explain --branch ${branch} --repo ${repo}\ntavrin rules show --repo ${repo}\ntavrin rules apply FILE --because TEXT --if-version ${rules.value?.version ?? 0} --repo ${repo}`}
>
  <form
    class="mb-4 flex flex-wrap items-end gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      branch = typed;
    }}
  >
    <Label for="branch" class="text-ink">What holds for the branch</Label>
    <div class="w-52"><Input id="branch" size="sm" class="font-mono" bind:value={typed} /></div>
    <Button size="sm" type="submit" color="alternative">Show</Button>
  </form>
  <div class="grid gap-6 lg:grid-cols-2">
    <Panel title={`In words, for ${branch}`} note="choose a sentence to see its line">
      <ul class="divide-y divide-rule">
        {#each explained.value?.sentences ?? [] as s (s.text)}
          <li class="py-2">
            {#if s.sources.length > 0}
              <button type="button" class="cursor-pointer text-left hover:underline" onclick={() => show(s.sources)}
                >{s.text}</button
              >
              <span class="block text-sm text-soft"
                >{s.sources.map((x) => `${x.protection}, line ${x.line}`).join('; ')}</span
              >
            {:else}{s.text}{/if}
          </li>
        {/each}
      </ul>
    </Panel>
    <Panel
      title="The document"
      note={rules.value?.version ? `version ${rules.value.version}, by ${rules.value.applied_by}` : 'none yet'}
    >
      {#if rules.value?.version}
        <p class="mb-2 text-sm text-soft">{rules.value.because} · <When time={rules.value.applied_at} /></p>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre
          class="max-h-[36rem] overflow-auto font-mono text-[13px] leading-5"
          tabindex="0">{#each lines as text, i (i)}<span
              id={`line-${i + 1}`}
              class="block"
              class:bg-added={lit.includes(i + 1)}
              ><span class="mr-3 inline-block w-7 text-right text-soft select-none">{i + 1}</span>{text}</span
            >{/each}</pre>
      {:else}
        <p>
          Nothing is protected. <code>tavrin rules apply FILE --because TEXT --repo {repo}</code> applies a document.
        </p>
      {/if}
    </Panel>
  </div>
</Page>
