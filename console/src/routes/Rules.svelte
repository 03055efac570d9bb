<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import Confirm from '../parts/Confirm.svelte';
  import Differences from '../parts/Differences.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import When from '../parts/When.svelte';
  import { answer as answered, api, Problem, type Difference, type Source } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { rulesOf, rulesPlace } from '../lib/place';
  import { here } from '../lib/router.svelte';
  import { count, exactly } from '../lib/words';

  let { house, name }: { house: string; name?: string } = $props();
  const place = $derived(rulesPlace(house, name));
  let branch = $state(here().query.get('branch') ?? 'main');
  let typed = $state(here().query.get('branch') ?? 'main');
  let lit = $state<number[]>([]);
  // A house's rules hold for the repository, so that events of the house matter too.
  const concern = () => ({ repository: name ? place.where : undefined, kinds: ['rules.', 'house.', 'role.', 'team.'] });
  const rules = new Live(() => place.read(), concern);
  const explained = new Live(
    async () =>
      name
        ? answered(
            api.GET('/repositories/{house}/{name}/explain', { params: { path: { house, name }, query: { branch } } }),
          )
        : null,
    concern,
  );
  let glob = $state('**');
  const matching = new Live(async () =>
    name && glob
      ? answered(
          api.GET('/repositories/{house}/{name}/matching', {
            params: { path: { house, name }, query: { pattern: glob } },
          }),
        )
      : null,
  );
  $effect(() => {
    void glob;
    void matching.reload();
  });
  const versions = new Live(() => place.versions(), concern);
  const proposals = new Live(() => place.proposals(), concern);
  const suspensions = new Live(() => place.suspensions(), concern);
  $effect(() => {
    void branch;
    return follow(rules, explained, versions, proposals, suspensions);
  });
  // What is still to be judged becomes less without an event.
  $effect(() => {
    if (!rules.value?.to_judge) return;
    const again = setTimeout(() => void rules.reload(), 1000);
    return () => clearTimeout(again);
  });
  const lines = $derived(rules.value?.text.replace(/\n$/, '').split('\n') ?? []);
  let compared = $state<{ version: number; differences: Difference[] }>();
  let problem = $state<string>();
  let asking = $state(false);
  let again = $state<() => void>(() => {});

  // Each place of a document that says something is named once, at the end, under the number that sentences give.
  const same = (a: Source, b: Source) =>
    a.document === b.document && a.protection === b.protection && a.line === b.line;
  const sources = $derived(
    (explained.value?.sentences ?? [])
      .flatMap((s) => s.sources)
      .filter((x, i, all) => all.findIndex((other) => same(x, other)) === i),
  );
  const numbers = (of: Source[]) =>
    of
      .map((x) => sources.findIndex((other) => same(x, other)) + 1)
      .sort((a, b) => a - b)
      .join(' ');

  function show(sources: { line: number; document?: string }[]) {
    lit = sources.filter((s) => (s.document ?? '') === (name ? '' : `house ${house}`)).map((s) => s.line);
    document.getElementById(`line-${lit[0]}`)?.scrollIntoView({ block: 'nearest' });
  }
  async function compare(version: number) {
    problem = undefined;
    try {
      compared = {
        version,
        differences: await place.differences(version - 1, version),
      };
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  // Changing rules may need the token again; then what was asked for is done after it was shown.
  async function act(f: () => Promise<unknown>) {
    problem = undefined;
    try {
      await f();
    } catch (error) {
      if (error instanceof Problem && error.status === 403 && error.message.startsWith('confirm')) {
        again = () => void act(f);
        asking = true;
        return;
      }
      problem = (error as Error).message;
    }
    await Promise.all([
      rules.reload(),
      versions.reload(),
      proposals.reload(),
      suspensions.reload(),
      explained.reload(),
    ]);
  }
  const decide = (id: number, agree: boolean) => act(() => place.decide(id, agree));
  const answer = $derived.by(() => {
    const e = explained.value;
    if (!name)
      return `These rules hold in every repository of ${house}. A repository adds to them and never takes from them.`;
    if (!e) return undefined;
    if (!e.protected) return `No protection matches ${branch}.`;
    return `${branch}${e.exists ? '' : ', once there is one,'} is protected by ${e.protections.join(', ')}.`;
  });
</script>

<Page
  title={name ? 'Rules' : `House rules of ${house}`}
  {answer}
  problem={problem ?? rules.problem ?? explained.problem}
  command={(name ? `tavrin rules explain --branch ${branch} ${place.flag}\n` : '') +
    `tavrin rules show ${place.flag}\ntavrin rules history ${place.flag}\ntavrin rules try FILE ${place.flag}\ntavrin rules apply FILE --reason TEXT --if-version ${rules.value?.version ?? 0} ${place.flag}`}
>
  <div class="mb-4 flex flex-wrap items-end justify-between gap-3">
    {#if name}
      <form
        class="flex flex-wrap items-center gap-2"
        onsubmit={(e) => {
          e.preventDefault();
          branch = typed;
        }}
      >
        <Label for="branch" class="text-ink">What holds for the branch</Label>
        <div class="w-52"><Input id="branch" size="sm" class="font-mono" bind:value={typed} /></div>
        <Button size="sm" type="submit" color="alternative">Show</Button>
      </form>
    {/if}
    <span class="flex flex-wrap gap-4 text-sm">
      {#if name}<a class="plain-link" href={`/houses/${house}/rules`}>House rules of {house}</a>{/if}
      <a class="plain-link" href={`${place.page}/edit`}>Edit the document</a>
    </span>
  </div>

  {#if rules.value?.to_judge}
    <p class="mb-4 border-l-4 border-ochre bg-panel p-3" role="status">
      {count(rules.value.to_judge, 'open change')} still to be looked at, for the checks that these rules ask for. It goes
      on by itself, and nothing lands by other rules meanwhile.
    </p>
  {/if}
  {#each suspensions.value ?? [] as s (s.rules_of + s.protection)}
    <p class="mb-4 border-l-4 border-ochre bg-panel p-3">
      “{s.protection}” of {s.rules_of} is suspended by {s.by} until {exactly(s.until)}: {s.reason}
      <Button
        size="xs"
        color="alternative"
        class="ml-2"
        onclick={() => act(() => rulesOf(s.rules_of).resume(s.protection))}>End it now</Button
      >
    </p>
  {/each}
  {#each proposals.value ?? [] as p (p.id)}
    <details class="mb-4 border-l-4 border-ochre bg-panel p-3">
      <summary class="cursor-pointer">
        Proposal {p.id} by {p.proposed_by} loosens the rules and waits for a second person: {p.reason} ·
        <When time={p.proposed_at} />
      </summary>
      <div class="mt-3">
        {#if p.protection}<p>It suspends “{p.protection}” for {Math.round((p.for_seconds ?? 0) / 60)} min.</p>
        {:else}<Differences differences={p.differences} />{/if}
      </div>
      <div class="mt-3 flex flex-wrap items-center gap-2">
        <Button size="sm" onclick={() => decide(p.id, true)}>Agree</Button>
        <Button size="sm" color="alternative" onclick={() => decide(p.id, false)}>Decline</Button>
        <span class="text-sm text-soft">for {p.agreed_by.join(', ')}, other than {p.proposed_by}</span>
      </div>
    </details>
  {/each}

  <div class="grid gap-6 lg:items-start" class:lg:grid-cols-2={name}>
    {#if name}
      <Panel title={`In words, for ${branch}`} note="choose a sentence to see its line">
        <ul class="divide-y divide-rule">
          {#each explained.value?.sentences ?? [] as s, i (i)}
            <li class="py-2">
              {#if s.sources.length > 0}
                <button type="button" class="cursor-pointer text-left hover:underline" onclick={() => show(s.sources)}
                  >{s.text}</button
                >
              {:else}{s.text}{/if}
              {#if s.sources.length > 0}<sup class="text-soft">{numbers(s.sources)}</sup>{/if}
              {#if s.fixed_by}<span class="ml-1 rounded border border-rule px-1 text-xs whitespace-nowrap text-soft"
                  >fixed by the house</span
                >{/if}
            </li>
          {/each}
        </ul>
        <ol class="mt-2 border-t border-rule pt-2 text-sm text-soft">
          {#each sources as x, n (n)}
            <li>
              <sup>{n + 1}</sup>
              {#if x.document}<a class="plain-link" href={`/houses/${house}/rules?line=${x.line}`}
                  >{x.protection}, {x.document} version {x.version}, line {x.line}</a
                >{:else}<button type="button" class="cursor-pointer hover:underline" onclick={() => show([x])}
                  >{x.protection}, version {x.version}, line {x.line}</button
                >{/if}
            </li>
          {/each}
        </ol>
      </Panel>
    {/if}
    <div class="min-w-0">
      <Panel
        title="The document"
        note={rules.value?.version
          ? `version ${rules.value.version}, by ${rules.value.applied_by}${rules.value.agreed_by ? `, agreed by ${rules.value.agreed_by}` : ''}`
          : 'none yet'}
      >
        {#if rules.value?.version}
          <p class="mb-2 text-sm text-soft">{rules.value.reason} · <When time={rules.value.applied_at} /></p>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre
            class="max-h-[36rem] overflow-auto font-mono text-[13px] leading-5"
            tabindex="0">{#each lines as text, i (i)}<span
                id={`line-${i + 1}`}
                class="block"
                class:bg-added={lit.includes(i + 1) || here().query.get('line') === String(i + 1)}
                ><span class="mr-3 inline-block w-7 text-right text-soft select-none">{i + 1}</span>{text}</span
              >{/each}</pre>
        {:else}
          <p>
            Nothing of its own is protected. <a class="plain-link" href={`${place.page}/edit`}>Begin with a template</a
            >.
          </p>
        {/if}
      </Panel>
      {#if name}
        <Panel title="What a glob matches now" note="* stops at a /, ** does not; case-sensitive">
          <Label for="glob" class="text-ink">Glob, or branch kind</Label>
          <div class="mt-1 w-60 max-w-full"><Input id="glob" size="sm" class="font-mono" bind:value={glob} /></div>
          {#if matching.problem}<p class="mt-2 text-sm text-rust">{matching.problem}</p>
          {:else if matching.value}
            <p class="mt-2 text-sm text-soft" aria-live="polite">
              {matching.value.kind ? `The branch kind stands for ${matching.value.globs.join(', ')}. ` : ''}{count(
                matching.value.branches.length,
                'match',
              ).replace('matchs', 'matches')}{matching.value.branches.length > 0 ? ':' : ', now.'}
            </p>
            <ul class="mt-1 flex flex-wrap gap-x-4 font-mono text-sm">
              {#each matching.value.branches as b (b)}<li>
                  <button
                    type="button"
                    class="cursor-pointer break-all hover:underline"
                    onclick={() => ((typed = b), (branch = b))}>{b}</button
                  >
                </li>{/each}
            </ul>
          {/if}
        </Panel>
      {/if}
      {#if (versions.value?.length ?? 0) > 0}
        <Panel title="Versions" note="what each changed">
          <ol class="divide-y divide-rule text-sm">
            {#each versions.value ?? [] as v (v.version)}
              <li class="py-2">
                <p class="flex flex-wrap items-center gap-x-3 gap-y-1">
                  <span class="font-medium">Version {v.version}</span>
                  <span>{v.applied_by}{v.agreed_by ? `, agreed by ${v.agreed_by}` : ''}</span>
                  <span class="text-soft"><When time={v.applied_at} /></span>
                  <span class="min-w-0 grow">{v.reason}</span>
                  <button
                    type="button"
                    class="plain-link cursor-pointer"
                    aria-label={`what it changed, version ${v.version}`}
                    onclick={() => compare(v.version)}>what it changed</button
                  >
                  {#if v.version !== rules.value?.version}<a
                      class="plain-link"
                      href={`${place.page}/edit?version=${v.version}`}>restore it</a
                    >{/if}
                </p>
                {#if compared?.version === v.version}<Differences differences={compared.differences} />{/if}
              </li>
            {/each}
          </ol>
        </Panel>
      {/if}
    </div>
  </div>
</Page>
<Confirm bind:open={asking} confirmed={() => again()} />
