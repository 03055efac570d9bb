<script lang="ts">
  import Id from '../parts/Id.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import { answer, api, type LineOrigins } from '../lib/api';
  import { short } from '../lib/words';
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
  const asking = $derived({ path: { house, name }, query: { path: path || undefined, at: at || undefined } });
  const tree = new Live(
    () => answer(api.GET('/repositories/{house}/{name}/tree', { params: asking })),
    () => ({ repository: repo, kinds: ['branch.', 'tag.', 'change.landed'] }),
  );
  const raw = $derived(
    `/api/v1/repositories/${repo}/file?${new URLSearchParams({ path, at: tree.value?.commit ?? at }).toString()}`,
  );
  $effect(() => {
    void [path, at];
    return follow(tree);
  });
  let asked = $state(false);
  let origins = $state.raw<LineOrigins>();
  let problem = $state<string>();
  async function ask() {
    asked = !asked;
    if (!asked || origins) return;
    try {
      origins = await answer(
        api.GET('/repositories/{house}/{name}/lines', {
          params: { path: { house, name }, query: { path, at: at || undefined } },
        }),
      );
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  $effect(() => {
    void [path, at];
    [asked, origins, problem] = [false, undefined, undefined];
  });
  const parts = $derived(path.split('/').filter(Boolean));
  const lines = $derived(tree.value?.text?.replace(/\n$/, '').split('\n') ?? []);
</script>

<Page
  title="Files"
  answer={tree.value && `${path || 'The root'} at ${at || 'the default branch'}.`}
  problem={problem ?? tree.problem}
  command={`tavrin browse files ${path}${at ? ` --at ${at}` : ''} --repo ${repo}${tree.value?.file ? `\ntavrin browse blame ${path}${at ? ` --at ${at}` : ''} --repo ${repo}` : ''}`}
>
  <nav aria-label="Path" class="mb-4 font-mono text-sm break-all">
    <a class="plain-link" href={`/${repo}/files${query('')}`}>{repo}</a>
    {#each parts as part, i (i)}
      <span class="mx-0.5">/</span><a
        class="plain-link"
        href={`/${repo}/files${query(parts.slice(0, i + 1).join('/'))}`}>{part}</a
      >
    {/each}
  </nav>
  {#if tree.value}
    <Panel title={path || repo}>
      <p class="mb-2 text-sm text-soft">commit <Id id={tree.value.commit} /></p>
      {#if tree.value.binary}
        <p>A binary file. <a class="plain-link" href={raw} download>Download it</a></p>
      {:else if tree.value.file}
        <p class="mb-2 text-sm">
          <button type="button" class="plain-link cursor-pointer" aria-pressed={asked} onclick={ask}
            >{asked ? 'Only the file' : 'Which change brought each line?'}</button
          >
          · <a class="plain-link" href={raw} download>Download</a>
        </p>
        {#if asked && origins}
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <div class="overflow-x-auto" tabindex="0" role="region" aria-label="Each line and the change that brought it">
            <table class="w-full border-collapse font-mono text-[13px] leading-5">
              <tbody>
                {#each origins.origins as o (o.first)}
                  <tr class="border-t border-rule align-top">
                    <td class="max-w-72 truncate py-0.5 pr-4 font-sans text-sm" title={`${o.subject}, by ${o.author}`}>
                      {#if o.landed}<a class="plain-link" href={`/${repo}/changes/${o.landed.number}`}
                          >change {o.landed.number}</a
                        >
                        {o.landed.title}{:else}<span class="text-soft">{short(o.commit)} {o.subject}</span>{/if}
                    </td>
                    <td class="py-0.5">
                      {#each lines.slice(o.first - 1, o.last) as text, i (i)}<span class="block whitespace-pre"
                          ><span class="mr-3 inline-block w-10 text-right text-soft select-none">{o.first + i}</span
                          >{text}</span
                        >{/each}
                    </td>
                  </tr>
                {/each}
              </tbody>
            </table>
          </div>
        {:else}
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre class="overflow-x-auto font-mono text-[13px] leading-5" tabindex="0">{#each lines as text, i (i)}<span
                class="block"
                ><span class="mr-3 inline-block w-10 text-right text-soft select-none">{i + 1}</span>{text}</span
              >{/each}</pre>
        {/if}
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
