// A change's page: what it shows, each part loaded by itself and again when something happens that it is about, and what can
// be done with the change.
import { untrack } from 'svelte';
import { answer, api, type ChangeEdit, type InChange, type Step } from './api';
import type { Chosen } from './difference.svelte';
import { follow, Live, type Concern } from './live.svelte';
import { go } from './router.svelte';
import { session } from './session.svelte';
import { isFor, steps } from './steps';
import { lacking } from './way';

const one = '/repositories/{house}/{name}/changes/{number}';

export class ChangePage {
  readonly params: { path: InChange };
  readonly repo: string;
  #about = (...kinds: string[]): Concern => ({ repository: this.repo, change: this.at.number, kinds });

  // The gate depends on most of what happens to the change, its branches and the rules.
  readonly change = new Live(
    () => answer(api.GET(one, { params: this.params })),
    () => ({ repository: this.repo, change: this.at.number }),
  );
  readonly report = new Live(
    () => answer(api.GET(`${one}/gate`, { params: this.params })),
    () => ({ repository: this.repo, change: this.at.number }),
  );
  readonly reviews = new Live(
    () => answer(api.GET(`${one}/reviews`, { params: this.params })),
    () => this.#about('review.', 'change.edited'),
  );
  readonly conflicts = new Live(
    // one that has ended, or is not known yet, conflicts with nothing
    // (looked at apart, or whoever follows the page would begin anew with every answer)
    () =>
      untrack(() => this.alive)
        ? answer(api.GET(`${one}/conflicts`, { params: this.params }))
        : Promise.resolve(undefined),
    () => this.#about('change.conflict-', 'change.revised', 'change.edited', 'change.landed', 'change.closed'),
  );
  readonly revisions = new Live(
    () => answer(api.GET(`${one}/revisions`, { params: this.params })),
    () => this.#about('change.revised', 'key.'),
  );
  readonly checks = new Live(
    async () => {
      const { head } = await answer(api.GET(one, { params: this.params }));
      const path = { house: this.at.house, name: this.at.name, commit: head };
      return answer(api.GET('/repositories/{house}/{name}/commits/{commit}/checks', { params: { path } }));
    },
    () => this.#about('check.', 'change.revised'),
  );
  readonly owners = new Live(
    () => answer(api.GET(`${one}/areas`, { params: this.params })),
    () => this.#about('change.', 'review.', 'rules.', 'team.', 'role.', 'account.'),
  );
  readonly threads = new Live(
    () => answer(api.GET(`${one}/threads`, { params: this.params })),
    () => this.#about('thread.', 'review.', 'change.revised'),
  );
  readonly drafts = new Live(
    () => answer(api.GET(`${one}/drafts`, { params: this.params })),
    () => this.#about('review.'),
  );
  readonly following = new Live(
    () => answer(api.GET('/following')),
    () => this.#about(),
  );
  readonly place = new Live(
    () =>
      answer(
        api.GET('/repositories/{house}/{name}', { params: { path: { house: this.at.house, name: this.at.name } } }),
      ),
    () => this.#about('role.', 'repository.'),
  );

  problem = $state<string>();
  told = $state('');
  busy = $state(false);
  editing = $state(false);
  waiving = $state(false);
  /** Lines that were chosen to speak of. */
  chosen = $state<Chosen>();
  /** The words of a review that is being written. */
  text = $state('');
  strategy = $state('');
  /** The message of the final commit, as somebody types it; undefined: as the rules make it. */
  message = $state<string>();
  // A word is for the revision that somebody has read: one that comes while they read does not slip under their hand.
  reading = $state<number>();

  constructor(readonly at: InChange) {
    this.params = { path: at };
    this.repo = `${at.house}/${at.name}`;
  }

  readonly it = $derived(this.change.value);
  readonly alive = $derived(this.it?.state === 'open' || this.it?.state === 'draft');
  /** Whether a commit is made for the landing, with a message of its own. */
  readonly final = $derived.by(() => {
    const by = this.strategy || this.change.value?.strategy;
    return this.change.value?.strategies?.some((s) => s.strategy === by && s.final) ?? false;
  });
  readonly queued = $derived(!!this.it?.entry && this.it.entry.position > 0);
  readonly me = $derived(session.me?.login ?? '');
  readonly author = $derived(this.it ? this.it.opened_by === this.me || this.it.authors.includes(this.me) : false);
  readonly mayEdit = $derived(this.author || this.place.value?.role === 'maintainer');
  readonly mine = $derived(this.reviews.value?.find((r) => r.standing && r.by === this.me && r.verdict !== 'comment'));
  readonly hears = $derived.by(() => {
    const choice = this.following.value?.find((f) => f.repository === this.repo && f.number === this.at.number);
    return choice ? !choice.muted : this.author || (this.reviews.value ?? []).some((r) => r.by === this.me);
  });
  readonly unread = $derived(this.it !== undefined && this.reading !== undefined && this.it.revision !== this.reading);

  /** Whether the change's way offers somebody this as a next step. */
  offers = (action: Step['action']) =>
    lacking(this.report.value).some((r) => r.steps.some((s) => s.action === action && isFor(s, this.me)));

  get #all(): Live<unknown>[] {
    return [
      this.change,
      this.report,
      this.reviews,
      this.revisions,
      this.conflicts,
      this.checks,
      this.owners,
      this.threads,
      this.drafts,
      this.following,
      this.place,
    ];
  }

  follow = () => follow(...this.#all);

  /** Does something, says so, and has the page show what came of it. It says whether it went well. */
  act = async (done: string, f: () => Promise<unknown>): Promise<boolean> => {
    if (this.busy) return false; // a second press, or one for what the first has replaced
    let went = true;
    this.problem = undefined;
    this.busy = true; // until the page shows what came of it, nothing else is to be pressed
    try {
      await f();
      this.told = done;
    } catch (error) {
      went = false;
      this.problem = (error as Error).message;
      scrollTo({ top: 0 });
    }
    await this.reload();
    this.busy = false;
    return went;
  };

  reload = () => Promise.all(this.#all.map((l) => l.reload()));

  join = () =>
    this.act('It is in the queue, and lands by itself when everything holds.', () =>
      answer(
        api.POST(`${one}/queue`, {
          params: this.params,
          body: { strategy: this.strategy || undefined, message: (this.final && this.message) || undefined },
        }),
      ),
    );
  leave = () => this.act('It is out of the queue.', () => answer(api.DELETE(`${one}/queue`, { params: this.params })));
  publish = () =>
    this.act('It is open: reviewers see it now.', () =>
      answer(api.PATCH(one, { params: this.params, body: { draft: false } })),
    );
  close = () => this.act('It is closed.', () => answer(api.POST(`${one}/close`, { params: this.params })));
  reopen = () => this.act('It is open again.', () => answer(api.POST(`${one}/reopen`, { params: this.params })));
  update = () =>
    this.act('It has everything of its target now.', () =>
      answer(api.POST(`${one}/update`, { params: this.params, body: {} })),
    );
  withdraw = () => this.act('It is withdrawn.', () => answer(api.POST(`${one}/withdraw`, { params: this.params })));
  hear = () =>
    this.act('', () => answer(api.PUT(`${one}/follow`, { params: this.params, body: { follow: !this.hears } })));
  /** Opens a change that takes back what this one landed, and goes there. */
  undo = (reason: string) =>
    this.act('It is prepared.', async () => {
      const made = await answer(api.POST(`${one}/undo`, { params: this.params, body: { reason } }));
      go(`/${this.repo}/changes/${made.number}`);
    });
  ask = () =>
    this.act('The tracker is being asked.', () => answer(api.POST(`${one}/tickets/ask`, { params: this.params })));
  rerun = (check: string, commit: string) =>
    this.act(`${check} was asked for once more.`, () =>
      answer(
        api.POST('/repositories/{house}/{name}/commits/{commit}/checks/rerun', {
          params: { path: { house: this.at.house, name: this.at.name, commit } },
          body: { name: check },
        }),
      ),
    );
  deleteDraft = (id: number) =>
    this.act('The draft is deleted.', () =>
      answer(api.DELETE(`${one}/drafts/{id}`, { params: { path: { ...this.at, id } } })),
    );

  /** Gives a verdict on the revision on the screen; if a newer one came in between, the service says so. */
  review = (verdict: 'approve' | 'object' | 'comment', done: string) =>
    this.act(done, async () => {
      const drafts = (this.drafts.value?.length ?? 0) > 0;
      await answer(
        api.POST(`${one}/reviews`, {
          params: this.params,
          body: { verdict, revision: this.reading, text: this.text, drafts },
        }),
      );
      this.text = '';
    });

  /** Says something of the lines that are chosen, or of the change. */
  speak = (words: string, suggestion: string | undefined, how: 'ask' | 'comment' | 'draft') => {
    const lines = this.chosen; // others may be chosen before this is answered
    const body = {
      ...(lines && { path: lines.path, commit: lines.commit }),
      ...(lines && lines.first > 0 && { first_line: lines.first, last_line: lines.last, before: lines.before }),
      text: words,
      suggestion,
      revision: lines?.revision ?? this.reading,
      no_answer: how === 'comment',
    };
    const done = how === 'draft' ? 'It is saved as a draft; send it with your review.' : 'Your comment is on record.';
    return this.act(done, async () => {
      if (how === 'draft') await answer(api.POST(`${one}/drafts`, { params: this.params, body }));
      else await answer(api.POST(`${one}/threads`, { params: this.params, body }));
      if (this.chosen === lines) this.chosen = undefined;
      if (!lines) this.text = '';
    });
  };

  save = (edit: ChangeEdit, ask: string[], labels: string[]) =>
    this.act('It is saved.', async () => {
      if (Object.keys(edit).length > 0) await answer(api.PATCH(one, { params: this.params, body: edit }));
      if (ask.length > 0) await answer(api.POST(`${one}/reviewers`, { params: this.params, body: { who: ask } }));
      const set = labels.filter((l) => !this.it!.labels.includes(l));
      const remove = this.it!.labels.filter((l) => !labels.includes(l));
      if (set.length + remove.length > 0)
        await answer(api.PUT(`${one}/labels`, { params: this.params, body: { set, remove } }));
      this.editing = false;
    });

  /** Takes a step that the gate offers. */
  take = (step: Step): unknown => {
    const { how } = steps[step.action];
    if (how.by === 'page') {
      if (how.page === 'rules') return go(`/${this.repo}/rules`);
      return go(`/${this.repo}/changes/${step.arguments.change}`);
    }
    if (how.by === 'place') {
      if (how.anchor === 'edit') this.editing = true;
      return document.getElementById(how.anchor === 'edit' ? 'about' : how.anchor)?.scrollIntoView();
    }
    if (how.by === 'git') return undefined;
    if (how.call === 'join') {
      this.strategy = step.arguments.strategies?.[0] ?? this.strategy;
      return step.action === 'rejoin' ? this.leave().then(() => this.join()) : this.join();
    }
    if (how.call === 'rerun') return this.rerun(step.arguments.check!, step.arguments.commit!);
    // What is to be reopened or closed may be another change, which this one waits for.
    if (step.arguments.change !== this.at.number) return go(`/${this.repo}/changes/${step.arguments.change}`);
    const calls = {
      reopen: this.reopen,
      close: this.close,
      update: this.update,
      publish: this.publish,
      withdraw: this.withdraw,
      ask: this.ask,
    };
    return calls[how.call]();
  };
}
