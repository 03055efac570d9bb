<script lang="ts">
  import { Button, Input, Select } from 'flowbite-svelte';
  import Mark, { type State } from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Stamp from '../parts/Stamp.svelte';
  import When from '../parts/When.svelte';
  import { answer as answered, api, type Change } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { session } from '../lib/session.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  /** How many changes are shown at once; more are asked for. */
  const page = 50;
  const asked = here().query;
  const stateNames = { '': 'draft and open', landed: 'landed', closed: 'closed', all: 'all' } as const;
  type Shown = keyof typeof stateNames;
  const stateOf = (text: string | null): Shown => (text !== null && text in stateNames ? (text as Shown) : '');
  let wanted = $state({
    state: stateOf(asked.get('state')),
    target: asked.get('target') ?? '',
    by: asked.get('by') ?? '',
    search: asked.get('search') ?? '',
  });
  let older = $state.raw<Change[]>([]);
  let ended = $state(false);
  let problem = $state<string>();
  const filters = $derived(Object.entries(wanted).filter(([, v]) => v) as [string, string][]);
  const path = $derived({ house, name });
  const list = (before?: number) =>
    answered(
      api.GET('/repositories/{house}/{name}/changes', {
        params: {
          path,
          query: {
            state: wanted.state || undefined,
            target: wanted.target || undefined,
            by: wanted.by || undefined,
            search: wanted.search || undefined,
            limit: page,
            before,
          },
        },
      }),
    );
  const changes = new Live(
    () => list(),
    () => ({ repository: repo }),
  );
  const branches = new Live(() => answered(api.GET('/repositories/{house}/{name}/branches', { params: { path } })));
  $effect(() => {
    older = [];
    ended = false;
    // The address says what is shown, so that it can be passed on.
    const said = new URLSearchParams(filters).toString();
    history.replaceState(null, '', location.pathname + (said ? `?${said}` : ''));
    return follow(changes);
  });
  $effect(() => void branches.reload());
  const shown = $derived([...(changes.value ?? []), ...older]);
  const more = $derived(!ended && shown.length > 0 && shown.length % page === 0);
  async function show() {
    try {
      const next = await list(shown.at(-1)!.number);
      older = [...older, ...next];
      ended = next.length < page;
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  const ejected = (c: Change) => c.state === 'open' && c.entry?.state === 'ejected';
  /** How a change stands, in a sentence and by its shape. */
  function standing(c: Change): [State, string] {
    if (ejected(c)) return ['ejected', c.summary];
    if (c.state === 'closed') return ['none', 'Closed.'];
    return [c.state === 'landed' || c.ready ? 'met' : c.state === 'open' ? 'missing' : 'none', c.summary];
  }
  const answer = $derived.by(() => {
    if (!changes.value) return undefined;
    const ready = shown.filter((c) => c.ready && c.state === 'open' && !ejected(c)).length;
    return `${count(shown.length, 'change')}${more ? ' and more' : ''}, ${ready} ready to land.`;
  });
  const states = Object.entries(stateNames).map(([value, name]) => ({ value, name }));
  const targets = $derived([
    { value: '', name: 'any branch' },
    ...(branches.value ?? []).filter((b) => b.protections.length > 0).map((b) => ({ value: b.name, name: b.name })),
  ]);
  const people = $derived([
    { value: '', name: 'anybody' },
    ...(session.me ? [{ value: session.me.login, name: 'me' }] : []),
    ...[...new Set(shown.map((c) => c.opened_by))]
      .filter((login) => login !== session.me?.login)
      .sort()
      .map((login) => ({ value: login, name: login })),
  ]);
</script>

<Page
  title="Changes"
  {answer}
  problem={problem ?? changes.problem}
  command={`tavrin change list --repo ${repo}${filters.map(([k, v]) => ` --${k} ${v}`).join('')}`}
>
  <div class="mb-4 grid max-w-4xl grid-cols-2 gap-3 text-sm sm:grid-cols-4">
    <label>Show <Select items={states} bind:value={wanted.state} placeholder="" size="sm" /></label>
    <label>for <Select items={targets} bind:value={wanted.target} placeholder="" size="sm" /></label>
    <label>opened by <Select items={people} bind:value={wanted.by} placeholder="" size="sm" /></label>
    <label
      >with <Input
        bind:value={wanted.search}
        size="sm"
        class="h-[2.375rem]"
        placeholder="words of its title or branch"
      /></label
    >
  </div>
  <p class="mb-4"><a class="plain-link" href={`/${repo}/propose`}>Propose a change</a></p>
  {#if changes.value}
    <ul class="divide-y divide-rule rounded-lg border border-rule bg-panel">
      {#each shown as c (c.number)}
        {@const [mark, words] = standing(c)}
        <li class="grid gap-x-4 gap-y-1 px-4 py-3 sm:grid-cols-[3rem_1fr_auto]">
          <span class="text-right font-mono text-soft">{c.number}</span>
          <div class="min-w-0">
            <a class="font-medium hover:underline" href={`/${repo}/changes/${c.number}`}>{c.title}</a>
            {#each c.labels as label (label)}<span class="ml-2 rounded border border-rule px-1 text-xs text-soft"
                >{label}</span
              >{/each}
            <p class="text-sm break-words text-soft"><Mark state={mark} size={14} /> {words}</p>
          </div>
          <div class="text-sm text-soft sm:text-right">
            {#if c.waivers.some((o) => o.state !== 'lapsed')}<Mark state="waived" size={14} /> waived ·
            {/if}
            {#if c.conflicts.length > 0}<Mark state="missing" size={14} /> conflicts ·
            {/if}
            {#if c.entry && !ejected(c)}<Stamp state={c.entry.state} /> ·
            {/if}
            <span class="font-mono">{c.source}</span><br class="hidden sm:inline" />
            {c.opened_by}, <When time={c.updated_at} />
          </div>
        </li>
      {:else}
        <li class="px-4 py-6">
          {#if filters.length > 0}None like that.{:else}None. Push a branch, then
            <code>tavrin change open --repo {repo} --source BRANCH --title TEXT</code>.{/if}
        </li>
      {/each}
    </ul>
    {#if more}<Button class="mt-3" size="sm" color="alternative" onclick={show}>Show older</Button>{/if}
  {/if}
</Page>
