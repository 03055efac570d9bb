// Keeps what a page shows up to date: it is loaded at first, and again whenever something happened that it is about.
import { Problem } from './api';
import { session } from './session.svelte';
import { happens, type Happened } from './stream';

/** How long the events of one moment are gathered before the page asks again, and how long it leaves between two such, in milliseconds. */
const gather = 15;
const pause = 300;

/** What something that is shown depends on; what is absent matters not. */
export type Concern = {
  repository?: string;
  /** Number of a change: events about other changes do not matter. */
  change?: number;
  /** Kinds of events, by how they begin, such as "thread." */
  kinds?: string[];
};

export class Live<T> {
  value = $state.raw<T>();
  problem = $state<string>();
  #turn = 0;

  constructor(
    private readonly load: () => Promise<T>,
    private readonly concern: () => Concern = () => ({}),
  ) {}

  reload = async () => {
    const turn = ++this.#turn;
    try {
      const value = await this.load();
      if (turn === this.#turn) [this.value, this.problem] = [value, undefined];
    } catch (error) {
      if (turn !== this.#turn) return;
      if (error instanceof Problem && error.status === 401) session.me = null;
      this.problem = (error as Error).message;
    }
  };

  /** Whether what happened may have changed it. */
  concerns(h: Happened): boolean {
    if (h.missed) return true;
    const { repository, change, kinds } = this.concern();
    const another = /^change\/(\d+)$/.exec(h.subject)?.[1];
    return (
      (!repository || !h.repository || h.repository === repository) &&
      (change === undefined || another === undefined || Number(another) === change) &&
      (!kinds || kinds.some((k) => h.kind.startsWith(k)))
    );
  }
}

/** Loads now, and again, each what it is about, after what happens. Call it in an effect. */
export function follow(...lives: Live<unknown>[]): () => void {
  lives.forEach((l) => void l.reload());
  let stale: Live<unknown>[] = [];
  let timer: ReturnType<typeof setTimeout> | undefined;
  let asked = 0;
  const end = happens((h) => {
    stale = lives.filter((l) => stale.includes(l) || l.concerns(h));
    if (stale.length === 0) return;
    timer ??= setTimeout(
      () => {
        timer = undefined;
        asked = performance.now();
        stale.forEach((l) => void l.reload());
        stale = [];
      },
      Math.max(gather, asked + pause - performance.now()),
    );
  });
  return () => {
    clearTimeout(timer);
    end();
  };
}
