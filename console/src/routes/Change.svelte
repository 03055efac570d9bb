<script lang="ts">
  import { Button, Label, Select } from 'flowbite-svelte';
  import Checks from '../parts/Checks.svelte';
  import Composer from '../parts/Composer.svelte';
  import Difference from '../parts/Difference.svelte';
  import EditChange from '../parts/EditChange.svelte';
  import Id from '../parts/Id.svelte';
  import Mark from '../parts/Mark.svelte';
  import Name from '../parts/Name.svelte';
  import Waivers from '../parts/Waivers.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Reviews from '../parts/Reviews.svelte';
  import WaiveDialog from '../parts/WaiveDialog.svelte';
  import Threads from '../parts/Threads.svelte';
  import Way from '../parts/Way.svelte';
  import When from '../parts/When.svelte';
  import Words from '../parts/Words.svelte';
  import Write from '../parts/Write.svelte';
  import {
    get,
    patch,
    post,
    put,
    remove,
    type Change,
    type ChangeAreas,
    type Check,
    type Following,
    type DraftComment,
    type Report,
    type Repository,
    type Review,
    type Revision,
    type Thread,
  } from '../lib/api';
  import type { Chosen } from '../lib/difference.svelte';
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
  const checks = new Live(async () =>
    get<Check[]>(`/repositories/${repo}/commits/${(await get<Change>(path)).head}/checks`),
  );
  const owners = new Live(() => get<ChangeAreas>(`${path}/areas`));
  const threads = new Live(() => get<Thread[]>(`${path}/threads`));
  const drafts = new Live(() => get<DraftComment[]>(`${path}/drafts`));
  const following = new Live(() => get<Following[]>('/following'));
  const place = new Live(() => get<Repository>(`/repositories/${repo}`));
  const all = [change, report, reviews, revisions, checks, owners, threads, drafts, following, place];
  $effect(() => follow(repo, ...all));

  const c = $derived(change.value);
  const alive = $derived(c?.state === 'open' || c?.state === 'draft');
  const queued = $derived(c?.entry && c.entry.position > 0);
  const me = $derived(session.me?.login ?? '');
  const author = $derived(c ? c.opened_by === me || c.authors.includes(me) : false);
  const mine = $derived(reviews.value?.find((r) => r.standing && r.by === me && r.verdict !== 'comment'));
  const choice = $derived(following.value?.find((f) => f.repository === repo && f.number === c?.number));
  const hears = $derived(choice ? !choice.muted : author || (reviews.value ?? []).some((r) => r.by === me));
  const missing = $derived(
    (report.value?.requirements ?? []).some(
      (r) => r.level === 'required' && (r.state === 'missing' || r.state === 'pending') && r.sources.length > 0,
    ),
  );
  let text = $state('');
  let strategy = $state('');
  let problem = $state<string>();
  let told = $state('');
  let editing = $state(false);
  let settingAside = $state(false);
  let chosen = $state<Chosen>();
  let busy = $state(false);
  // A word is for the revision that somebody has read: one that comes while they read does not slip under their hand.
  let reading = $state<number>();
  $effect(() => {
    if (reading === undefined && c) reading = c.revision;
  });
  const unread = $derived(c !== undefined && reading !== undefined && c.revision !== reading);

  async function act(done: string, f: () => Promise<unknown>) {
    if (busy) return false; // a second press, or one for what the first has replaced
    let went = true;
    problem = undefined;
    busy = true; // until the page shows what came of it, nothing else is to be pressed
    try {
      await f();
      told = done;
    } catch (error) {
      went = false;
      problem = (error as Error).message;
      scrollTo({ top: 0 });
    }
    await Promise.all(all.map((l) => l.reload()));
    busy = false;
    return went;
  }
  async function speak(words: string, suggestion: string | undefined, how: 'ask' | 'comment' | 'draft') {
    const lines = chosen; // others may be chosen before this is answered
    const about = lines && {
      path: lines.path,
      commit: lines.commit,
      ...(lines.first > 0 && { first_line: lines.first, last_line: lines.last, before: lines.before }),
    };
    const body = {
      ...about,
      text: words,
      suggestion,
      revision: lines?.revision ?? reading,
      no_answer: how === 'comment',
    };
    return act(
      how === 'draft' ? 'It is saved as a draft; send it with your review.' : 'Your comment is on record.',
      async () => {
        await post(`${path}/${how === 'draft' ? 'drafts' : 'threads'}`, body);
        if (chosen === lines) chosen = undefined;
        if (!about) text = '';
      },
    );
  }
  // The verdict is for the revision on the screen; if a newer one came in between, the service says so.
  const review = (verdict: string, done: string) =>
    act(done, async () => {
      await post(`${path}/reviews`, {
        verdict,
        revision: reading,
        text,
        drafts: (drafts.value?.length ?? 0) > 0,
      });
      text = '';
    });
  const save = (edit: Record<string, unknown>, ask: string[], labels: string[]) =>
    act('It is altered.', async () => {
      if (Object.keys(edit).length > 0) await patch(path, edit);
      if (ask.length > 0) await post(`${path}/reviewers`, { who: ask });
      const set = labels.filter((l) => !c!.labels.includes(l));
      const gone = c!.labels.filter((l) => !labels.includes(l));
      if (set.length + gone.length > 0) await put(`${path}/labels`, { set, remove: gone });
      editing = false;
    });
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
    retargeted: 'goes to another branch',
  };
  const index = [
    ['The way', 'way'],
    ['About', 'about'],
    ['Reviews', 'reviews'],
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
  command={`tavrin change show ${number} --repo ${repo}\ntavrin change gate ${number} --repo ${repo}\ntavrin review approve ${number} --revision ${c?.revision ?? 'R'} --repo ${repo}\ntavrin queue join ${number} --repo ${repo}\ntavrin change diff ${number} --new --repo ${repo}\ntavrin thread list ${number} --repo ${repo}`}
>
  {#if c}
    <div aria-busy={busy} class="lg:grid lg:grid-cols-[9rem_minmax(0,1fr)] lg:gap-6">
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
          {#if c.source_gone}<p class="mt-3 text-sm text-soft">
              The branch {c.source} is gone. The change stays at revision {c.revision}, and goes on when the branch is
              pushed again.
            </p>{/if}
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
                    )}>Join the queue</Button
                >
                <Label class="flex items-center gap-2 text-ink"
                  >by <Select size="sm" class="w-44" items={strategies} bind:value={strategy} placeholder="" /></Label
                >
              {/if}
              {#if c.state === 'draft'}
                <Button
                  size="sm"
                  color="alternative"
                  onclick={() => act('It is open: reviewers see it now.', () => patch(path, { draft: false }))}
                  >Publish</Button
                >
              {/if}
              <Button size="sm" color="alternative" onclick={() => act('It is closed.', () => post(`${path}/close`))}
                >Close</Button
              >
              {#if (c.behind ?? 0) > 0 && (author || place.value?.role === 'maintainer')}
                <Button
                  size="sm"
                  color="alternative"
                  title="Landing does not need it: the queue rehearses it on the newest target"
                  onclick={() => act('It has everything of its target now.', () => post(`${path}/update`, {}))}
                  >Update from {c.target}</Button
                >
              {/if}
              {#if missing}
                <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => (settingAside = true)}
                  >Waive…</button
                >
              {/if}
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

        {#if c.waivers.length > 0}
          <Panel title="Waived" note="requirements that somebody let it land without">
            <Waivers waivers={c.waivers} {repo} {act} />
          </Panel>
        {/if}

        <Panel title="About" id="about" note={`opened by ${c.opened_by}; authors: ${c.authors.join(', ')}`}>
          {#if editing}
            <EditChange change={c} {repo} {save} cancel={() => (editing = false)} />
          {:else}
            {#if c.description_html}<Words html={c.description_html} />{:else}<p class="text-soft">
                No description.
              </p>{/if}
            <p class="mt-3 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
              {#if c.tickets.length > 0}<span>Tickets: {c.tickets.join(', ')}</span>{/if}
              {#if c.labels.length > 0}<span>Labelled {c.labels.join(', ')}</span>{/if}
              {#if c.depends_on.length > 0}<span
                  >Waits for
                  {#each c.depends_on as n, i (n)}{i > 0 ? ', ' : ''}<a
                      class="plain-link"
                      href={`/${repo}/changes/${n}`}>change {n}</a
                    >{/each}</span
                >{/if}
              {#if author || place.value?.role === 'maintainer'}
                <button type="button" class="plain-link cursor-pointer" onclick={() => (editing = true)}>Edit</button>
              {/if}
              <button
                type="button"
                class="plain-link cursor-pointer"
                onclick={() => act('', () => put(`${path}/follow`, { follow: !hears }))}
                >{hears ? 'Unfollow' : 'Follow'}</button
              >
            </p>
          {/if}
        </Panel>

        <Panel title="Reviews and discussions" id="reviews" note={`of revision ${c.revision} and before`}>
          <Reviews reviews={reviews.value ?? []} report={report.value} />
          <Threads threads={threads.value ?? []} {path} alive={alive ?? false} {author} {act} />
          {#if alive}
            {#if (drafts.value?.length ?? 0) > 0}
              <div class="mt-4 rounded border border-dashed border-rule p-3 text-sm">
                <p class="mb-1 font-medium">Draft comments; nobody else sees it yet</p>
                <ul class="divide-y divide-rule">
                  {#each drafts.value ?? [] as g (g.id)}
                    <li class="flex gap-3 py-1">
                      <span class="min-w-0 grow break-words"
                        ><span class="font-mono">{g.where}</span>: {g.text || 'a suggestion'}</span
                      >
                      <button
                        type="button"
                        class="plain-link shrink-0 cursor-pointer"
                        onclick={() => act('It is thrown away.', () => remove(`${path}/drafts/${g.id}`))}
                        >Throw away</button
                      >
                    </li>
                  {/each}
                </ul>
              </div>
            {/if}
            <form class="mt-4 flex flex-col gap-2" onsubmit={(e) => e.preventDefault()}>
              <Write
                id="text"
                label={`Your word on revision ${c.revision}`}
                bind:value={text}
                placeholder="An objection or a question needs words; an approval may have some. Choose a line number below to speak of lines."
              />
              {#if unread}
                <p class="border-l-4 border-ochre p-2 text-sm">
                  Revision {c.revision} came while you were reading revision {reading}.
                  <Button size="xs" color="alternative" onclick={() => (reading = c.revision)}
                    >Go on with revision {c.revision}</Button
                  >
                </p>
              {/if}
              <div class="flex flex-wrap gap-2">
                <Button size="sm" disabled={unread} onclick={() => review('approve', 'Your approval is on record.')}
                  >Approve</Button
                >
                <Button
                  size="sm"
                  color="alternative"
                  disabled={unread}
                  onclick={() => review('object', 'Your objection is on record.')}>Object</Button
                >
                <Button
                  size="sm"
                  color="alternative"
                  disabled={unread}
                  onclick={() => review('comment', 'Your comment is on record.')}>Comment</Button
                >
                {#if !chosen}<Button size="sm" color="alternative" onclick={() => speak(text, undefined, 'ask')}
                    >Ask</Button
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
              {#if owners.value.hopeless.length > 0}<Mark state="missing" /> No approvals can meet: {owners.value.hopeless.join(
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
                      <Id id={k.id} /><span class="min-w-0 truncate"><Name text={k.subject} /></span>
                      {#if k.signed_by}<span class="text-teal">signed by {k.signed_by}</span>
                      {:else if k.signature && k.signature !== 'not signed'}<span class="text-ochre">{k.signature}</span
                        >{/if}
                    </li>{/each}
                </ul>
              </li>
            {/each}
          </ol>
        </Panel>

        <Panel title="Difference" id="difference" note={`${count(c.files, 'file')}, +${c.added} −${c.removed}`}>
          {#if (c.hidden ?? []).length > 0}
            <p class="mb-3 border-l-4 border-ochre bg-sheet p-2 text-sm">
              Its commits touch more than this shows: {c.hidden!.slice(0, 10).join(', ')}{c.hidden!.length > 10
                ? ` and ${c.hidden!.length - 10} more`
                : ''}. By a strategy that keeps the commits that comes to {c.target} too; choose a commit to read it.
            </p>
          {/if}
          <Difference
            {path}
            change={c}
            revisions={revisions.value ?? []}
            threads={threads.value ?? []}
            {chosen}
            choose={alive ? (at) => (chosen = at) : undefined}
          />
        </Panel>
        {#if chosen && alive}<Composer {chosen} send={speak} cancel={() => (chosen = undefined)} />{/if}
      </div>
    </div>
  {/if}
</Page>
<WaiveDialog
  bind:open={settingAside}
  {path}
  done={async () => {
    told = 'It is waived, and the change goes first in the queue.';
    await Promise.all(all.map((l) => l.reload()));
  }}
/>
