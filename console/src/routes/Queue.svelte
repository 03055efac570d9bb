<script lang="ts">
  import Id from '../parts/Id.svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import QueueParts from '../parts/QueueParts.svelte';
  import Panel from '../parts/Panel.svelte';
  import Rehearsals from '../parts/Rehearsals.svelte';
  import Stamp from '../parts/Stamp.svelte';
  import Stops from '../parts/Stops.svelte';
  import When from '../parts/When.svelte';
  import { answer, api, type Entry } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { kept, likely } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const branch = $derived(here().query.get('branch') ?? '');
  const queue = new Live(
    () =>
      answer(
        api.GET('/repositories/{house}/{name}/queue', {
          params: { path: { house, name }, query: { branch: branch || undefined } },
        }),
      ),
    () => ({ repository: repo }),
  );
  const place = new Live(
    () => answer(api.GET('/repositories/{house}/{name}', { params: { path: { house, name } } })),
    () => ({ repository: repo, kinds: ['role.', 'repository.'] }),
  );
  $effect(() => follow(place));
  $effect(() => {
    void branch;
    return follow(queue);
  });
  const q = $derived(queue.value);
  /** A reason without what is said above, once. */
  const briefly = (reason: string) =>
    (q?.stops ?? []).reduce((r, x) => r.replace(`${x.words}: ${x.next}`, x.words), reason);
  const flying = $derived(q?.entries.filter((e) => e.state === 'rehearsing' || e.state === 'landing') ?? []);
  const lined = $derived(q?.entries.filter((e) => e.state === 'queued') ?? []);
  const waiting = $derived(q?.entries.filter((e) => e.state === 'waiting') ?? []);
</script>

{#snippet card(e: Entry)}
  <div class="rounded border border-rule bg-panel p-3">
    <p class="flex flex-wrap items-baseline justify-between gap-x-2">
      <a class="font-medium hover:underline" href={`/${repo}/changes/${e.number}`}>{e.number}. {e.title}</a>
      <Stamp state={e.state} />
    </p>
    <p class="mt-1 text-sm break-words text-soft">{briefly(e.reason)}</p>
    {#if e.state !== 'waiting' && e.likely}
      <p class="mt-1 text-sm" title={e.likely.words}>
        {#if likely(e.likely)}Likely to land {likely(e.likely)}.{:else}<span class="text-soft"
            >When: {e.likely.words}.</span
          >{/if}
      </p>
    {/if}
    {#if e.rehearsal}
      <ul class="mt-1 flex flex-wrap gap-x-3 text-sm">
        {#each e.rehearsal.checks as k (k.name)}<li><Mark state={k.state} size={14} /> {k.name}: {k.state}</li>{/each}
      </ul>
    {/if}
    <p class="mt-1 text-sm text-soft">by {e.strategy}, {e.joined_by}, <When time={e.created_at} /></p>
  </div>
{/snippet}

{#snippet under()}<QueueParts {repo} {branch} at="line" />{/snippet}

<Page
  title={`Queue of ${q?.branch ?? ''}`}
  {under}
  answer={q?.caption}
  problem={queue.problem}
  command={`tavrin queue show --repo ${repo}${branch ? ` --branch ${branch}` : ''}`}
>
  {#if q}
    <Stops
      stops={q.stops}
      branch={q.branch}
      {house}
      {name}
      keeps={place.value?.role === 'maintainer'}
      done={() => queue.reload()}
    />
    {#each q.red as r (r.check)}
      <p role="alert" class="mb-3 border-l-4 border-rust bg-panel p-3">
        <Mark state="failed" /> <b>{q.branch} is red.</b>
        {r.check}
        {r.state} on its tip <Id id={r.commit} />, <When time={r.since} />{r.summary ? `: ${r.summary}` : ''}
        {#if r.link}<a class="plain-link" href={r.link} rel="noopener noreferrer" target="_blank">more</a>{/if}
      </p>
    {/each}
    {#each q.silent as k (k.commit + k.name)}
      <p class="mb-3 border-l-4 border-ochre bg-panel p-3 text-sm">
        <Mark state="pending" size={14} />
        {k.runner ? 'No runner takes' : 'Nobody answers for'} the check <span class="font-medium">{k.name}</span> on
        <Id id={k.commit} />, asked for <When time={k.since} />{k.attempt > 1 ? `, attempt ${k.attempt}` : ''}.
      </p>
    {/each}
    <Panel
      title={`Rehearsed now, in ${q.settings.slots} ${q.settings.slots === 1 ? 'slot' : 'slots'}${q.settings.tests === 'by_area' ? ', areas side by side' : ''}`}
    >
      <Rehearsals rehearsals={q.rehearsals} entries={q.entries} {repo} tip={q.tip} usual={q.supposes.seconds} />
      <p class="mt-2 text-sm text-soft">{q.supposes.words}. {kept(q.kept)}</p>
    </Panel>
    <div class="bed mb-8 grid gap-4 lg:grid-cols-[8rem_1.4fr_1fr_1fr]">
      <section aria-label="Tip" class="border-t-4 border-teal pt-2">
        <p class="text-sm text-soft">{q.branch} is at</p>
        <Id id={q.tip} />
      </section>
      <section aria-label="Rehearsed" class="flex flex-col gap-2 border-t-4 border-ochre pt-2">
        <h2 class="text-sm text-soft">rehearsed</h2>
        {#each flying as e (e.id)}{@render card(e)}{:else}<p class="text-sm text-soft">nothing</p>{/each}
      </section>
      <section aria-label="Queued" class="flex flex-col gap-2 border-t-4 border-rule pt-2">
        <h2 class="text-sm text-soft">queued, ready</h2>
        {#each lined as e (e.id)}{@render card(e)}{:else}<p class="text-sm text-soft">nothing</p>{/each}
      </section>
      <section
        aria-label="Waiting for their gate"
        class="flex flex-col gap-2 border-t-4 border-dotted border-rule pt-2"
      >
        <h2 class="text-sm text-soft">waiting for their gate</h2>
        {#each waiting as e (e.id)}{@render card(e)}{:else}<p class="text-sm text-soft">nothing</p>{/each}
      </section>
    </div>
    <Panel title="What left the queue lately">
      <ol class="divide-y divide-rule">
        {#each q.recent as e (e.id)}
          <li class="grid gap-x-4 py-2 sm:grid-cols-[8rem_1fr_auto]">
            <Stamp state={e.state} />
            <div class="min-w-0">
              <a class="hover:underline" href={`/${repo}/changes/${e.number}`}>{e.number}. {e.title}</a>
              <p class="text-sm break-words text-soft">{e.reason}</p>
            </div>
            <span class="text-sm text-soft"><When time={e.ended_at ?? e.created_at} /></span>
          </li>
        {:else}
          <li class="text-soft">Nothing has left the queue yet.</li>
        {/each}
      </ol>
    </Panel>
  {/if}
</Page>
