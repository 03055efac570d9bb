<script lang="ts">
  import Id from '../parts/Id.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Stamp from '../parts/Stamp.svelte';
  import When from '../parts/When.svelte';
  import Mark from '../parts/Mark.svelte';
  import Waivers from '../parts/Waivers.svelte';
  import { answer as answered, api, type Commit } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { session } from '../lib/session.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  let at = $state('');
  const path = $derived({ house, name });
  const here = () => ({ repository: repo });
  const repository = () => answered(api.GET('/repositories/{house}/{name}', { params: { path } }));
  const about = new Live(repository, here);
  const branches = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/branches', { params: { path } })),
    () => ({ repository: repo, kinds: ['branch.', 'change.landed', 'check.', 'rules.', 'waiver.'] }),
  );
  const history = new Live(
    async (): Promise<Commit[]> =>
      (await repository()).empty
        ? []
        : answered(
            api.GET('/repositories/{house}/{name}/history', {
              params: { path, query: { limit: 30, at: at || undefined } },
            }),
          ),
    () => ({ repository: repo, kinds: ['branch.', 'change.landed', 'check.', 'waiver.'] }),
  );
  const waivers = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/waivers', { params: { path, query: { open: true } } })),
    () => ({ repository: repo, kinds: ['waiver.', 'change.'] }),
  );
  const following = new Live(
    () => answered(api.GET('/following')),
    () => ({ repository: repo, kinds: [] }),
  );
  $effect(() => {
    void at;
    return follow(about, branches, history, waivers, following);
  });
  const followed = $derived(!!following.value?.some((f) => f.repository === repo && !f.number));
  let told = $state<string>();
  async function act(_: string, f: () => Promise<unknown>) {
    told = undefined;
    try {
      await f();
    } catch (error) {
      told = (error as Error).message;
    }
    await Promise.all([waivers.reload(), following.reload(), history.reload()]);
  }
  const answer = $derived.by(() => {
    if (!branches.value || !about.value) return undefined;
    if (about.value.empty) return 'It is empty. Its first push is for maintainers.';
    const guarded = branches.value.filter((b) => b.protections.length > 0).length;
    const all = count(branches.value.length, 'branch').replace('branchs', 'branches');
    return `${all}, ${guarded} protected; ${count(about.value.open_changes, 'open change')}, ${about.value.in_queue} in the queue.`;
  });
</script>

<Page
  title={repo}
  {answer}
  problem={told ?? about.problem ?? branches.problem ?? history.problem}
  command={`tavrin browse branches --repo ${repo}\ntavrin browse history --repo ${repo} --at ${at || (about.value?.default_branch ?? 'main')}`}
>
  {#if about.value?.description}
    <p class="mb-4 max-w-prose">{about.value.description}</p>
  {/if}
  {#if about.value?.read_only}
    <p role="alert" class="mb-4 border-l-4 border-ochre bg-panel p-3">
      It is read-only: {about.value.read_only}. A maintainer may undo that: tavrin repo edit {repo} --writable
    </p>
  {/if}
  {#if about.value?.trouble}
    <p role="alert" class="mb-4 border-l-4 border-rust bg-panel p-3">
      It is stopped and read-only: {about.value.trouble}. An administrator has to look: tavrin repo resume {repo}
    </p>
  {/if}
  {#if about.value}
    <details class="mb-6 rounded-lg border border-rule bg-panel px-4 py-2" open={about.value.empty}>
      <summary class="cursor-pointer">Clone it</summary>
      <p class="mt-2 text-sm">
        Git takes the token that TAVRIN_TOKEN holds from the program <code class="font-mono">tavrin</code>; a token of
        yours is what you signed in with, and
        <code class="font-mono">tavrin token create {session.me?.login ?? 'LOGIN'}</code> makes another.
      </p>
      <pre class="mt-2 overflow-x-auto font-mono text-sm">export TAVRIN_TOKEN=…
git clone -c credential.{location.origin}.helper='!tavrin credential' {location.origin}/git/{repo}.git</pre>
      <p class="mt-2 text-sm">
        Without tavrin, git asks for a user name and a password: any name, and the token. Inside the clone, tavrin needs
        neither <code class="font-mono">--url</code> nor <code class="font-mono">--repo</code>.
      </p>
      {#if about.value.empty}
        <pre class="mt-2 overflow-x-auto font-mono text-sm">cd {name}
git switch -c {about.value.default_branch}
git commit --allow-empty -m "Start"
git push origin {about.value.default_branch}</pre>
      {/if}
    </details>
  {/if}
  <p class="mb-4 text-sm">
    <button
      type="button"
      class="plain-link cursor-pointer"
      onclick={() =>
        act('', () =>
          answered(api.PUT('/repositories/{house}/{name}/follow', { params: { path }, body: { follow: !followed } })),
        )}>{followed ? 'Unfollow this repository' : 'Follow this repository'}</button
    >
    · <a class="plain-link" href={`/${repo}/connect`}>Connect a check</a>
    · <a class="plain-link" href={`/${repo}/webhooks`}>Webhooks</a>
  </p>
  {#if waivers.value && waivers.value.length > 0}
    <Panel title="Waived" id="waivers" note="what may still be used, and what is not acknowledged yet">
      <Waivers waivers={waivers.value} {repo} {act} />
    </Panel>
  {/if}
  {#if branches.value && branches.value.length > 0}
    <Panel title="Branches" note="choose one to see its history below">
      <ul class="divide-y divide-rule">
        {#each branches.value as b (b.name)}
          <li class="grid gap-x-4 gap-y-1 py-2 sm:grid-cols-[minmax(10rem,16rem)_minmax(8rem,14rem)_1fr_auto]">
            <button
              type="button"
              class="cursor-pointer text-left font-mono text-sm break-all hover:underline"
              class:font-bold={at === b.name || (!at && b.default)}
              aria-pressed={at === b.name || (!at && b.default)}
              onclick={() => (at = b.name)}>{b.name}{b.default ? ' (default)' : ''}</button
            >
            <span class="text-sm">
              {#if b.protections.length > 0}
                <a class="plain-link" href={`/${repo}/rules?branch=${encodeURIComponent(b.name)}`}
                  >{b.protections.join(', ')}</a
                >
              {:else}<span class="text-soft">not protected</span>
                · <a class="plain-link" href={`/${repo}/propose?source=${encodeURIComponent(b.name)}`}>propose</a>{/if}
            </span>
            <span class="min-w-0 truncate text-sm" title={b.subject}>{b.subject}</span>
            <span class="flex items-baseline gap-3 self-start text-sm text-soft">
              {#if b.checks}<Stamp state={b.checks} />{/if}
              <Id id={b.commit} />
              <When time={b.committed_at} />
            </span>
          </li>
        {/each}
      </ul>
    </Panel>
  {/if}
  {#if history.value && history.value.length > 0}
    <Panel title={`History of ${at || about.value?.default_branch || ''}`} note="the checks of each commit beside it">
      <ol class="divide-y divide-rule">
        {#each history.value as c (c.id)}
          <li class="grid gap-x-4 gap-y-1 py-2 sm:grid-cols-[9rem_1fr_auto]">
            <span class="text-sm"
              >{#if c.checks}<Stamp state={c.checks} />{:else}<span class="text-soft">no checks</span>{/if}</span
            >
            <span class="min-w-0" title={c.subject}>
              <span class="block truncate">{c.subject}</span>
              {#if c.landed}<span class="block truncate text-sm text-soft" class:pl-4={!c.landed.top}
                  ><a class="plain-link" href={`/${repo}/changes/${c.change}`}>change {c.change}</a>
                  {c.landed.top
                    ? `by ${c.landed.strategy}, asked for by ${c.landed.landed_by}, ${c.landed.approvers.length > 0 ? `approved by ${c.landed.approvers.join(', ')}` : 'approved by nobody'}`
                    : 'came with it'}</span
                >{/if}
              {#if c.waiver}<span class="block text-sm text-ochre"
                  ><Mark state="waived" size={14} />
                  {c.waiver.by} waived {c.waiver.waives.map((r) => r.title).join('; ')}{c.waiver.acknowledged_by
                    ? ''
                    : ' (not acknowledged yet)'}</span
                >{/if}
            </span>
            <span class="flex items-baseline gap-3 self-start text-sm text-soft"
              ><span>{c.author}</span><Id id={c.id} /><When time={c.authored_at} /></span
            >
          </li>
        {/each}
      </ol>
    </Panel>
  {/if}
</Page>
