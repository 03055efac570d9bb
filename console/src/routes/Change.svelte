<script lang="ts">
  import About from '../parts/change/About.svelte';
  import Conflicts from '../parts/change/Conflicts.svelte';
  import Actions from '../parts/change/Actions.svelte';
  import Owners from '../parts/change/Owners.svelte';
  import Revisions from '../parts/change/Revisions.svelte';
  import Say from '../parts/change/Say.svelte';
  import Checks from '../parts/Checks.svelte';
  import Composer from '../parts/Composer.svelte';
  import Difference from '../parts/Difference.svelte';
  import { annotations } from '../lib/annotations';
  import Loaded from '../parts/Loaded.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Reviews from '../parts/Reviews.svelte';
  import Threads from '../parts/Threads.svelte';
  import WaiveDialog from '../parts/WaiveDialog.svelte';
  import Waivers from '../parts/Waivers.svelte';
  import Way from '../parts/Way.svelte';
  import When from '../parts/When.svelte';
  import { untrack } from 'svelte';
  import { ChangePage } from '../lib/change.svelte';
  import { count } from '../lib/words';

  let { house, name, number }: { house: string; name: string; number: string } = $props();
  const page = untrack(() => new ChangePage({ house, name, number: Number(number) })); // each address has a page of its own
  $effect(() => page.follow());
  $effect(() => {
    if (page.reading === undefined && page.it) page.reading = page.it.revision;
  });
  const c = $derived(page.it);
  const at = page.at;
  const repo = page.repo;
  // How it stands, the queue's word before the gate's.
  const answer = $derived.by(() => {
    if (!c) return undefined;
    if (page.queued) return `In the queue at place ${c.entry!.position}: ${c.entry!.reason}`;
    return c.summary;
  });
  const index = [
    ['The way', 'way'],
    ['About', 'about'],
    ['Reviews', 'reviews'],
    ['Owners', 'owners'],
    ['Checks', 'checks'],
    ['Revisions', 'revisions'],
    ['Difference', 'difference'],
  ];
  // The links of checks that deploy lead to what they deployed.
  const previews = $derived(
    (page.report.value?.requirements ?? []).filter((q) => q.kind === 'deployment').flatMap((q) => q.checks ?? []),
  );
</script>

<Page
  title={c ? `${c.number}. ${c.title}` : `Change ${number}`}
  {answer}
  problem={page.problem ?? page.change.problem}
  command={`tavrin change show ${number} --repo ${repo}\ntavrin change gate ${number} --repo ${repo}\ntavrin review approve ${number} --revision ${c?.revision ?? 'R'} --repo ${repo}\ntavrin queue join ${number} --repo ${repo}\ntavrin change diff ${number} --new --repo ${repo}\ntavrin thread list ${number} --repo ${repo}`}
>
  {#snippet under()}
    {#if c}
      <p class="mt-1 flex flex-wrap items-center gap-x-2 text-sm text-soft">
        <span class="rounded border border-rule px-1.5 font-medium text-ink">{c.state}</span>
        <span>by {c.opened_by}, <When time={c.created_at} /></span>
        {#each c.labels as label (label)}<span class="rounded border border-rule px-1 text-xs">{label}</span>{/each}
      </p>
    {/if}
  {/snippet}
  {#if c}
    <div aria-busy={page.busy} class="lg:grid lg:grid-cols-[9rem_minmax(0,1fr)] lg:gap-6">
      <nav
        aria-label="On this page"
        class="mb-4 flex flex-wrap gap-x-4 gap-y-1 text-sm lg:sticky lg:top-4 lg:flex-col lg:self-start"
      >
        {#each index as [title, id] (id)}<a class="text-soft hover:underline" href={`#${id}`}>{title}</a>{/each}
      </nav>
      <div class="min-w-0">
        <div id="way" class="mb-6 scroll-mt-4">
          <Loaded of={page.report}>
            {#snippet children(report)}
              <Way
                {report}
                number={c.number}
                source={c.source}
                target={c.target}
                landed={c.state === 'landed'}
                take={page.take}
              />
            {/snippet}
          </Loaded>
          {#if c.source_gone}<p class="mt-3 text-sm text-soft">
              The branch {c.source} is gone. The change stays at revision {c.revision}, and goes on when the branch is
              pushed again.
            </p>{/if}
          <Actions {page} change={c} />
        </div>

        {#if page.alive}<Conflicts {page} />{/if}
        {#if c.waivers.length > 0}
          <Panel title="Waived" note="requirements that somebody let it land without">
            <Waivers waivers={c.waivers} {repo} act={page.act} />
          </Panel>
        {/if}

        <About {page} change={c} />

        <Panel title="Reviews and discussions" id="reviews" note={`of revision ${c.revision} and before`}>
          <Loaded of={page.reviews}>
            {#snippet children(reviews)}<Reviews {reviews} report={page.report.value} />{/snippet}
          </Loaded>
          <Loaded of={page.threads}>
            {#snippet children(threads)}
              <Threads {threads} {at} alive={page.alive} author={page.author} act={page.act} />
            {/snippet}
          </Loaded>
          {#if page.alive}<Say {page} change={c} />{/if}
        </Panel>

        <Owners {page} change={c} />

        <Panel title="Checks" id="checks" note="on the head, and on the rehearsal as it would land">
          <Loaded of={page.checks}>
            {#snippet children(checks)}<Checks {checks} title="On the head" {previews} />{/snippet}
          </Loaded>
          {#if c.entry?.rehearsal && c.entry.rehearsal.commit !== c.head}<Checks
              checks={c.entry.rehearsal.checks}
              title="On the rehearsal"
              {previews}
            />{/if}
        </Panel>

        <Revisions {page} change={c} />

        <Panel title="Difference" id="difference" note={`${count(c.files, 'file')}, +${c.added} −${c.removed}`}>
          {#if (c.hidden ?? []).length > 0}
            <p class="mb-3 border-l-4 border-ochre bg-sheet p-2 text-sm">
              Its commits touch more than this shows: {c.hidden!.slice(0, 10).join(', ')}{c.hidden!.length > 10
                ? ` and ${c.hidden!.length - 10} more`
                : ''}. By a strategy that keeps the commits that comes to {c.target} too; choose a commit to read it.
            </p>
          {/if}
          <Difference
            {at}
            change={c}
            revisions={page.revisions.value ?? []}
            threads={page.threads.value ?? []}
            said={annotations([
              ...(page.checks.value ?? []).map((k) => ({ check: k, on: '' })),
              ...(c.entry?.rehearsal?.checks ?? []).map((k) => ({ check: k, on: ', as rehearsed' })),
            ])}
            chosen={page.chosen}
            choose={page.alive ? (lines) => (page.chosen = lines) : undefined}
          />
        </Panel>
        {#if page.chosen && page.alive}<Composer
            chosen={page.chosen}
            send={page.speak}
            cancel={() => (page.chosen = undefined)}
          />{/if}
      </div>
    </div>
  {/if}
</Page>
<WaiveDialog
  bind:open={page.waiving}
  {at}
  done={async () => {
    page.told = 'It is waived, and the change goes first in the queue.';
    await page.reload();
  }}
/>
