<script lang="ts">
  import { Button, Label, Select, Textarea } from 'flowbite-svelte';
  import Checks from '../parts/Checks.svelte';
  import Id from '../parts/Id.svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Patch from '../parts/Patch.svelte';
  import Threads from '../parts/Threads.svelte';
  import Way from '../parts/Way.svelte';
  import When from '../parts/When.svelte';
  import {
    get,
    post,
    remove,
    type Change,
    type ChangeAreas,
    type Check,
    type Diff,
    type Report,
    type Review,
    type Revision,
    type Thread,
  } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { session } from '../lib/session.svelte';
  import { count } from '../lib/words';

  let { house, name, number }: { house: string; name: string; number: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const path = $derived(`/repositories/${repo}/changes/${number}`);
  const change = new Live(() => get<Change>(path));
  const report = new Live(() => get<Report>(`${path}/gate`));
  const reviews = new Live(() => get<Review[]>(`${path}/reviews`));
  const revisions = new Live(() => get<Revision[]>(`${path}/revisions`));
  const diff = new Live(() => get<Diff>(`${path}/diff`));
  const checks = new Live(async () =>
    get<Check[]>(`/repositories/${repo}/commits/${(await get<Change>(path)).head}/checks`),
  );
  const owners = new Live(() => get<ChangeAreas>(`${path}/areas`));
  const threads = new Live(() => get<Thread[]>(`${path}/threads`));
  $effect(() => follow(repo, change, report, reviews, revisions, diff, checks, owners, threads));

  const c = $derived(change.value);
  const alive = $derived(c?.state === 'open' || c?.state === 'draft');
  const queued = $derived(c?.entry && c.entry.position > 0);
  const mine = $derived(
    reviews.value?.find((r) => r.standing && r.by === session.me?.login && r.verdict !== 'comment'),
  );
  let text = $state('');
  let strategy = $state('');
  let problem = $state<string>();
  let told = $state('');

  async function act(done: string, f: () => Promise<unknown>) {
    problem = undefined;
    try {
      await f();
      told = done;
      text = '';
    } catch (error) {
      problem = (error as Error).message;
    }
    await Promise.all([change.reload(), report.reload(), reviews.reload(), threads.reload()]);
  }
  // A discussion is begun on the change, or on the line of the difference that was chosen.
  let about = $state<{ path: string; first_line: number; before: boolean }>();
  const ask = (file: string, line: number, before: boolean) => {
    about = { path: file, first_line: line, before };
    document.getElementById('text')?.focus();
  };
  const begin = (noAnswer: boolean) =>
    act('Your remark is on record.', async () => {
      await post(`${path}/threads`, { ...about, text, revision: c!.revision, no_answer: noAnswer });
      about = undefined;
    });
  // The verdict is for the revision on the screen; if a newer one came in between, the service says so.
  const review = (verdict: string, done: string) =>
    act(done, () => post(`${path}/reviews`, { verdict, revision: c!.revision, text }));
  const strategies = [
    { value: '', name: 'the rules’ default' },
    { value: 'rebase', name: 'rebase' },
    { value: 'squash', name: 'squash' },
    { value: 'merge', name: 'merge' },
  ];
  const kinds: Record<string, string> = {
    first: '',
    added: 'adds commits',
    rebased: 'rebased: the same difference as before',
    folded: 'folds fixups, and nothing else',
    rewritten: 'rewritten',
  };
  const index = [
    ['The way', 'way'],
    ['Discussion', 'discussion'],
    ['Owners', 'owners'],
    ['Checks', 'checks'],
    ['Revisions', 'revisions'],
    ['Difference', 'difference'],
  ];
</script>

<Page
  title={c ? `${c.number}. ${c.title}` : `Change ${number}`}
  answer={c && (queued ? `In the queue at place ${c.entry!.position}: ${c.entry!.reason}` : c.summary)}
  problem={problem ?? change.problem}
  command={`tavrin change show ${number} --repo ${repo}\ntavrin change gate ${number} --repo ${repo}\ntavrin review approve ${number} --revision ${c?.revision ?? 'R'} --repo ${repo}\ntavrin queue join ${number} --repo ${repo}`}
>
  {#if c}
    <div class="lg:grid lg:grid-cols-[9rem_minmax(0,1fr)] lg:gap-6">
      <nav
        aria-label="On this page"
        class="mb-4 flex flex-wrap gap-x-4 gap-y-1 text-sm lg:sticky lg:top-4 lg:flex-col lg:self-start"
      >
        {#each index as [title, id] (id)}<a class="text-soft hover:underline" href={`#${id}`}>{title}</a>{/each}
      </nav>
      <div class="min-w-0">
        <div id="way" class="mb-6 scroll-mt-4">
          {#if report.value}<Way
              report={report.value}
              source={c.source}
              target={c.target}
              landed={c.state === 'landed'}
            />{/if}
          {#if c.entry?.state === 'ejected' && alive}
            <p class="mt-3 border-l-4 border-rust bg-panel p-3">
              <Mark state="ejected" /> Ejected from the queue <When time={c.entry.ended_at ?? c.entry.created_at} />: {c
                .entry.reason}
            </p>
          {/if}
          {#if alive}
            <div class="mt-3 flex flex-wrap items-center gap-3">
              {#if queued}
                <Button
                  size="sm"
                  color="alternative"
                  onclick={() => act('It is out of the queue.', () => remove(`${path}/queue`))}>Leave the queue</Button
                >
              {:else}
                <Button
                  size="sm"
                  onclick={() =>
                    act('It is in the queue; nobody has to come back for it.', () =>
                      post(`${path}/queue`, strategy ? { strategy } : {}),
                    )}>Land it when it may</Button
                >
                <Label class="flex items-center gap-2 text-ink"
                  >by <Select size="sm" class="w-44" items={strategies} bind:value={strategy} placeholder="" /></Label
                >
              {/if}
              <Button size="sm" color="alternative" onclick={() => act('It is closed.', () => post(`${path}/close`))}
                >Close</Button
              >
            </div>
          {:else if c.state === 'closed'}
            <Button
              class="mt-3"
              size="sm"
              color="alternative"
              onclick={() => act('It is open again.', () => post(`${path}/reopen`))}>Reopen</Button
            >
          {/if}
          <p class="mt-2 text-sm text-teal" aria-live="polite">{told}</p>
        </div>

        <Panel title="Discussion" id="discussion" note={`opened by ${c.opened_by}; authors: ${c.authors.join(', ')}`}>
          {#if c.description}<p class="mb-3 max-w-prose whitespace-pre-wrap">{c.description}</p>{/if}
          <ol class="divide-y divide-rule">
            {#each reviews.value ?? [] as r (r.id)}
              <li class="py-2" class:opacity-60={r.withdrawn}>
                <p class="text-sm">
                  <Mark state={r.verdict === 'approve' ? 'met' : r.verdict === 'object' ? 'unmet' : 'none'} />
                  <span class="font-medium">{r.by}</span>
                  {r.verdict === 'approve' ? 'approved' : r.verdict === 'object' ? 'objected to' : 'commented on'} revision
                  {r.revision}{r.withdrawn ? ', and took it back' : ''}
                  · <span class="text-soft"><When time={r.created_at} /></span>
                </p>
                {#if r.text}<p class="mt-1 ml-6 max-w-prose break-words whitespace-pre-wrap">{r.text}</p>{/if}
              </li>
            {:else}
              <li class="text-soft">Nobody has said anything yet.</li>
            {/each}
          </ol>
          <Threads threads={threads.value ?? []} {path} {alive} {act} />
          {#if alive}
            <form class="mt-4 flex flex-col gap-2" onsubmit={(e) => e.preventDefault()}>
              <Label for="text" class="text-ink"
                >Your word on revision {c.revision}{about
                  ? `: ${about.path}, line ${about.first_line}${about.before ? ' before the change' : ''}`
                  : ''}</Label
              >
              <Textarea
                id="text"
                rows={3}
                class="w-full bg-sheet dark:bg-sheet text-ink dark:text-ink"
                bind:value={text}
                placeholder="An objection, a question or a remark needs words; an approval may have some. Choose a line number below to speak of that line."
              />
              <div class="flex flex-wrap gap-2">
                <Button size="sm" onclick={() => review('approve', 'Your approval is on record.')}>Approve</Button>
                <Button size="sm" color="alternative" onclick={() => review('object', 'Your objection is on record.')}
                  >Object</Button
                >
                <Button size="sm" color="alternative" onclick={() => begin(false)}>Ask</Button>
                <Button size="sm" color="alternative" onclick={() => begin(true)}>Remark</Button>
                {#if about}<Button size="sm" color="alternative" onclick={() => (about = undefined)}
                    >Not on that line</Button
                  >{/if}
                {#if mine}
                  <Button
                    size="sm"
                    color="alternative"
                    onclick={() => act('It is withdrawn.', () => post(`${path}/withdraw`))}
                  >
                    Withdraw my {mine.verdict === 'approve' ? 'approval' : 'objection'}
                  </Button>
                {/if}
              </div>
            </form>
          {/if}
        </Panel>

        <Panel title="Owners" id="owners" note="which areas it touches, and whose word is enough">
          {#if owners.value && alive}
            <p class="mb-2">
              {#if owners.value.hopeless.length > 0}<Mark state="unmet" /> No approvals can meet: {owners.value.hopeless.join(
                  '; ',
                )}.
              {:else if owners.value.enough.length > 0}<Mark state="pending" /> Enough would be
                <span class="font-medium">{owners.value.enough.join(' and ')}</span>{owners.value.exact
                  ? ''
                  : ' (perhaps fewer)'}.
              {:else}<Mark state="met" /> No approval is missing.{/if}
            </p>
          {/if}
          <ul class="divide-y divide-rule text-sm">
            {#each owners.value?.areas ?? [] as a (a.area + a.source.line)}
              <li class="flex flex-wrap gap-x-4 py-1.5">
                <span class="font-medium">{a.area}</span>
                <span>{a.owners.join(', ')} <span class="text-soft">({a.people.join(', ') || 'nobody'})</span></span>
                <span class="text-soft">{count(a.paths.length, 'path')}, by {a.pattern}</span>
                {#if a.fixed_by}<span class="text-soft">fixed by {a.fixed_by}</span>{/if}
              </li>
            {/each}
            {#if owners.value && owners.value.unowned.length > 0}
              <li class="py-1.5 text-soft">Owned by nobody: {owners.value.unowned.join(', ')}</li>
            {/if}
            {#each c.reviewers as r (r.who)}
              <li class="py-1.5">
                {r.optional ? 'Told of it' : 'Asked to review'}: <span class="font-medium">{r.who}</span>
                <span class="text-soft">as {r.because} says</span>
              </li>
            {/each}
            {#if c.labels.length > 0}<li class="py-1.5">Labelled {c.labels.join(', ')}</li>{/if}
          </ul>
        </Panel>

        <Panel title="Checks" id="checks" note="on the head, and on the rehearsal as it would land">
          <Checks checks={checks.value ?? []} title="On the head" />
          {#if c.entry?.rehearsal && c.entry.rehearsal.commit !== c.head}<Checks
              checks={c.entry.rehearsal.checks}
              title="On the rehearsal"
            />{/if}
        </Panel>

        <Panel
          title="Revisions"
          id="revisions"
          note={`the newest is ${c.revision}; ${c.ahead ?? 0} ahead of ${c.target}, ${c.behind ?? 0} behind`}
        >
          <ol class="divide-y divide-rule">
            {#each revisions.value ?? [] as r (r.number)}
              <li class="py-2">
                <p class="flex flex-wrap gap-x-3 text-sm">
                  <span class="font-medium">Revision {r.number}</span><Id id={r.head} />
                  <span>{r.pushed_by}, <When time={r.created_at} /></span>
                  <span class="text-soft">{count(r.files, 'file')}, +{r.added} −{r.removed}</span>
                  <span class="text-soft">{kinds[r.kind] ?? ''}</span>
                </p>
                <ul class="mt-1 ml-4 text-sm">
                  {#each r.commits ?? [] as k (k.id)}<li class="flex gap-3">
                      <Id id={k.id} /><span class="min-w-0 truncate">{k.subject}</span>
                      {#if k.signed_by}<span class="text-teal">signed by {k.signed_by}</span>
                      {:else if k.signature && k.signature !== 'not signed'}<span class="text-ochre">{k.signature}</span
                        >{/if}
                    </li>{/each}
                </ul>
              </li>
            {/each}
          </ol>
        </Panel>

        <Panel
          title="Difference"
          id="difference"
          note={diff.value && `${count(diff.value.files.length, 'file')}, +${c.added} −${c.removed}`}
        >
          {#if diff.value}<Patch diff={diff.value} ask={alive ? ask : undefined} />{/if}
        </Panel>
      </div>
    </div>
  {/if}
</Page>
