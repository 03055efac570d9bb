<script lang="ts">
  import Id from '../parts/Id.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import { get, type Tree } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const path = $derived(here().query.get('path') ?? '');
  const at = $derived(here().query.get('at') ?? '');
  const query = (p: string) => {
    const q = new URLSearchParams({ ...(p && { path: p }), ...(at && { at }) }).toString();
    return q ? `?${q}` : '';
  };
  const tree = new Live(() => get<Tree>(`/repositories/${repo}/tree${query(path)}`));
  $effect(() => {
    void [path, at];
    return follow(repo, tree);
  });
  const parts = $derived(path.split('/').filter(Boolean));
  const lines = $derived(tree.value?.text?.replace(/\n$/, '').split('\n') ?? []);
</script>

<Page
  title="Files"
  answer={tree.value && `${path || 'The root'} at ${at || 'the default branch'}.`}
  problem={tree.problem}
  command={`tavrin browse files ${path}${at ? ` --at ${at}` : ''} --repo ${repo}`}
>
  <nav aria-label="Path" class="mb-4 font-mono text-sm break-all">
    <a class="plain-link" href={`/${repo}/files${query('')}`}>{repo}</a>
    {#each parts as part, i (i)}
      / <a class="plain-link" href={`/${repo}/files${query(parts.slice(0, i + 1).join('/'))}`}>{part}</a>
    {/each}
  </nav>
  {#if tree.value}
    <Panel title={path || repo}>
      <p class="mb-2 text-sm text-soft">commit <Id id={tree.value.commit} /></p>
      {#if tree.value.binary}
        <p>A binary file.</p>
      {:else if tree.value.file}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre class="overflow-x-auto font-mono text-[13px] leading-5" tabindex="0">{#each lines as text, i (i)}<span
              class="block"
              ><span class="mr-3 inline-block w-10 text-right text-soft select-none">{i + 1}</span>{text}</span
            >{/each}</pre>
        {#if tree.value.partial}<p class="mt-2 text-ochre">The file is longer than what is shown.</p>{/if}
      {:else}
        <ul class="divide-y divide-rule">
          {#each tree.value.entries ?? [] as e (e.name)}
            <li class="flex justify-between gap-4 py-1.5 text-sm">
              <a
                class="font-mono break-all hover:underline"
                href={`/${repo}/files${query((path ? path + '/' : '') + e.name)}`}
                >{e.name}{e.kind === 'tree' ? '/' : ''}</a
              >
              <span class="text-right whitespace-nowrap text-soft">{e.kind === 'blob' ? `${e.size} B` : ''}</span>
            </li>
          {/each}
        </ul>
      {/if}
    </Panel>
  {/if}
</Page>
