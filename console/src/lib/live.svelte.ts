// Keeps what a page shows up to date: it is loaded at first, and again whenever something happened.
import { Problem } from './api';
import { session } from './session.svelte';

/** How long several events in a row are gathered before the page asks again, in milliseconds. */
const gather = 120;

export class Live<T> {
  value = $state.raw<T>();
  problem = $state<string>();
  #turn = 0;

  constructor(private readonly load: () => Promise<T>) {}

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
}

/** Loads now, and again after each event of a repository (empty: of all). Call it in an effect. */
export function follow(repository: string, ...lives: Live<unknown>[]): () => void {
  const reload = () => lives.forEach((l) => void l.reload());
  reload();
  let timer: ReturnType<typeof setTimeout> | undefined;
  const source = new EventSource(
    '/api/v1/events' + (repository ? `?repository=${encodeURIComponent(repository)}` : ''),
  );
  const soon = () => {
    timer ??= setTimeout(() => {
      timer = undefined;
      reload();
    }, gather);
  };
  source.onmessage = soon;
  source.onopen = soon; // what happened between loading and listening, or while the connection was down, is not missed
  return () => {
    clearTimeout(timer);
    source.close();
  };
}
