<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import { answer as answered, api } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const at = $derived({ house, name });
  let path = $state(here().query.get('path') ?? '');
  let asked = $state(here().query.get('path') ?? '');
  const areas = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/areas', { params: { path: at } })),
    () => ({ repository: repo, kinds: ['rules.', 'team.', 'role.', 'branch.', 'account.'] }),
  );
  const gaps = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/areas/gaps', { params: { path: at, query: {} } })),
    () => ({ repository: repo, kinds: ['rules.', 'branch.', 'change.landed'] }),
  );
  const loads = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/areas/loads', { params: { path: at } })),
    () => ({ repository: repo }),
  );
  const owners = new Live(
    async () =>
      asked
        ? answered(
            api.GET('/repositories/{house}/{name}/areas/owners', { params: { path: at, query: { path: asked } } }),
          )
        : null,
    () => ({ repository: repo, kinds: ['rules.', 'team.', 'role.', 'account.'] }),
  );
  $effect(() => {
    void asked;
    return follow(areas, gaps, loads, owners);
  });
  const whole = $derived(gaps.value?.folders[0]);
  const answer = $derived.by(() => {
    if (!areas.value || !gaps.value) return undefined;
    const all = areas.value.length === 0 ? 'There are no areas yet' : count(areas.value.length, 'area');
    if (!whole) return `${all}.`;
    return `${all}; of ${count(whole.files, 'file')}, ${whole.unowned} ${whole.unowned === 1 ? 'is' : 'are'} owned by nobody.`;
  });
  const share = (unowned: number, files: number) => (files === 0 ? 0 : Math.round((100 * unowned) / files));
</script>

<Page
  title="Areas"
  {answer}
  problem={areas.problem ?? gaps.problem ?? owners.problem}
  command={`tavrin area list --repo ${repo}\ntavrin area owners ${asked || 'PATH'} --repo ${repo}\ntavrin area gaps --repo ${repo}\ntavrin area workload --repo ${repo}`}
>
  <Panel title="Who owns a path" note="a file, or one that may come">
    <form
      class="flex flex-wrap items-center gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        asked = path.trim();
      }}
    >
      <Label for="path" class="text-ink">Path</Label>
      <div class="w-72 max-w-full"><Input id="path" size="sm" class="font-mono" bind:value={path} /></div>
      <Button size="sm" type="submit" color="alternative">Ask</Button>
    </form>
    {#if owners.value}
      <ul class="mt-3 divide-y divide-rule" aria-live="polite">
        {#each owners.value.areas as o (o.area + o.source.line)}
          <li class="py-1.5">
            <Mark state="met" /> <span class="font-medium">{o.owners.join(', ')}</span>
            <span class="text-soft">({o.people.join(', ') || 'nobody with access'})</span>
            <span class="block text-sm text-soft"
              >because area {o.area} has the glob <code>{o.pattern}</code>, {o.source.document
                ? `${o.source.document}, `
                : ''}line {o.source.line}</span
            >
          </li>
        {:else}
          <li class="py-1.5"><Mark state="missing" /> Nobody owns <code>{owners.value.path}</code>.</li>
        {/each}
        {#if owners.value.files === 0}<li class="py-1.5 text-sm text-soft">There is no such file now.</li>{/if}
      </ul>
    {/if}
  </Panel>

  <Panel title="Areas" note="every one that matches a path applies">
    <div class="overflow-x-auto">
      <table class="w-full min-w-[38rem] text-left text-sm">
        <thead class="text-soft">
          <tr
            ><th class="py-1 pr-4 font-medium">Area</th><th class="py-1 pr-4 font-medium">Paths</th><th
              class="py-1 pr-4 font-medium">Owners</th
            ><th class="py-1 pr-4 font-medium">Requires</th><th class="py-1 text-right font-medium">Files</th></tr
          >
        </thead>
        <tbody class="divide-y divide-rule">
          {#each areas.value ?? [] as a (a.name + a.source.line)}
            <tr class="align-top">
              <td class="py-1.5 pr-4 font-medium"
                >{a.name}{#if a.fixed_by}<span class="block text-xs font-normal text-soft">fixed by {a.fixed_by}</span
                  >{/if}</td
              >
              <td class="py-1.5 pr-4 font-mono break-all">{a.paths.join(', ')}</td>
              <td class="py-1.5 pr-4"
                >{a.owners.join(', ')} <span class="block text-soft">{a.people.join(', ') || 'nobody'}</span></td
              >
              <td class="py-1.5 pr-4"
                >{[
                  ...a.requires,
                  a.reviewers.length > 0 && `asks ${a.reviewers.join(', ')} for a review`,
                  a.optional.length > 0 && `tells ${a.optional.join(', ')}`,
                ]
                  .filter(Boolean)
                  .join('; ') || 'nothing'}</td
              >
              <td class="py-1.5 text-right">{a.files}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if areas.value?.length === 0}<p class="text-soft">
        <a class="plain-link" href={`/${repo}/rules/edit`}>The rules</a> say what areas there are.
      </p>{/if}
  </Panel>

  <div class="grid gap-6 lg:grid-cols-2">
    <Panel title="Owned by nobody" note="folder by folder">
      <table class="w-full text-sm">
        <thead class="text-soft">
          <tr
            ><th class="py-1 text-left font-medium">Folder</th><th class="py-1 text-right font-medium">Files</th><th
              class="py-1 pr-3 text-right font-medium">Nobody’s</th
            ><th class="w-1/3 py-1 text-left font-medium">Share</th></tr
          >
        </thead>
        <tbody class="divide-y divide-rule">
          {#each gaps.value?.folders ?? [] as f (f.folder)}
            <tr>
              <td class="py-1 font-mono break-all">{f.folder ? `${f.folder}/` : 'all of it'}</td>
              <td class="py-1 text-right">{f.files}</td>
              <td class="py-1 pr-3 text-right">{f.unowned}</td>
              <td class="py-1 whitespace-nowrap">
                <svg viewBox="0 0 100 8" class="inline-block h-2 w-12 sm:w-24 align-middle" aria-hidden="true">
                  <rect width="100" height="8" rx="2" fill="var(--rule)" />
                  <rect width={share(f.unowned, f.files)} height="8" rx="2" fill="var(--rust)" />
                </svg>
                {share(f.unowned, f.files)} %
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#each gaps.value?.idle ?? [] as i (i.area + i.pattern)}
        <p class="mt-2 text-sm">
          <Mark state="fragile" size={16} /> area {i.area}: <code>{i.pattern}</code> matches nothing
        </p>
      {/each}
    </Panel>
    <Panel title="Open reviews" note="how they are spread over people">
      <div class="overflow-x-auto">
        <table class="w-full text-sm">
          <thead class="text-soft">
            <tr
              ><th class="py-1 text-left font-medium">Person</th><th class="py-1 text-right font-medium"
                >Could approve</th
              ><th class="py-1 text-right font-medium">Nobody else</th><th class="py-1 text-right font-medium">Asked</th
              ><th class="py-1 text-right font-medium">Has spoken</th></tr
            >
          </thead>
          <tbody class="divide-y divide-rule">
            {#each loads.value ?? [] as l (l.login)}
              <tr
                ><td class="py-1">{l.login}</td><td class="py-1 text-right">{l.could}</td><td class="py-1 text-right"
                  >{l.only}</td
                ><td class="py-1 text-right">{l.asked}</td><td class="py-1 text-right">{l.given}</td></tr
              >
            {:else}
              <tr
                ><td class="py-1 text-soft" colspan="5">{loads.value ? 'Nothing waits for anybody.' : 'Loading …'}</td
                ></tr
              >
            {/each}
          </tbody>
        </table>
      </div>
    </Panel>
  </div>
</Page>
