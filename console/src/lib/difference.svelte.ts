// Keeps a difference for showing: which files it has, which of them are loaded, how high each stands in the page. Files
// are loaded when they come into view, and only what is in view is drawn, so that size does not matter.
import { answer, api, type Diff, type FileDiff, type InChange } from './api';
import { highlighted } from './highlight';
import { pairs, readPatch, type Pair, type PatchLine } from './patch';

/** Of a line of code, in CSS pixels; the style sheet's h-5. */
export const lineHeight = 20;
const headHeight = 44;
const gapHeight = 12;
/** A file with more changed lines than this is drawn only when asked for. */
export const hugeFile = 20_000;
/** How many files are asked for at once. */
const together = 4;

/** What of a change is read, and how. */
export type Asked = { revision?: number; since?: number; commit?: string; space?: 'ignored' };

/** Lines that were chosen to speak of, and what they say now; first 0: the whole file. Of one commit, or of all. */
export type Chosen = {
  revision: number;
  path: string;
  first: number;
  last: number;
  before: boolean;
  text: string;
  commit?: string;
};

export class ShownFile {
  lines = $state.raw<PatchLine[]>();
  html = $state.raw<Map<PatchLine, string>>();
  partial = $state(false);
  open = $state(true);
  read = $state(false);
  problem = $state<string>();
  asked = false;

  constructor(readonly about: FileDiff) {
    this.read = about.read;
    this.open = !about.read && !about.generated && !about.binary && about.added + about.removed <= hugeFile;
  }

  /** Why it is folded at first, in words; nothing when it is not. */
  get folded(): string {
    const f = this.about;
    if (f.generated) return 'folded: made by a program, by its name';
    return f.added + f.removed > hugeFile ? 'folded: very large' : '';
  }

  /** Why there are no lines, in words; nothing when there are. */
  get without(): string {
    const f = this.about;
    if (f.binary) return 'A binary file: it is not shown.';
    if (f.added + f.removed === 0) {
      if (f.similarity === 100) return 'Only moved.';
      return f.new_mode ? 'Only its mode differs.' : 'No line differs.';
    }
    return '';
  }

  rows(columns: number): (PatchLine | Pair)[] {
    return columns === 2 ? pairs(this.lines ?? []) : (this.lines ?? []);
  }
}

export class Difference {
  files = $state.raw<ShownFile[]>([]);
  columns = $state(1);
  #running = 0;
  #waiting: ShownFile[] = [];

  constructor(
    readonly about: Diff,
    private readonly at: InChange,
    readonly query: Asked,
  ) {
    this.files = about.files.map((f) => new ShownFile(f));
  }

  /** How many rows a file has when it is open: those it has, or, until it is loaded, about as many as it will have. */
  #rows(f: ShownFile): number {
    if (f.without) return 1;
    if (!f.lines) return f.about.added + f.about.removed + 8;
    return this.columns === 2 ? pairs(f.lines).length : f.lines.length + (f.partial ? 1 : 0);
  }

  /** Where each file begins, and, last, where all of it ends, in CSS pixels. */
  readonly tops = $derived.by(() => {
    const tops = new Float64Array(this.files.length + 1);
    this.files.forEach((f, i) => {
      tops[i + 1] = tops[i]! + headHeight + (f.open ? this.#rows(f) * lineHeight : 0) + gapHeight;
    });
    return tops;
  });

  /** The files that stand between two heights, as the first and the one after the last. */
  between(from: number, to: number): [number, number] {
    const tops = this.tops;
    let [low, high] = [0, this.files.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (tops[middle + 1]! <= from) low = middle + 1;
      else high = middle;
    }
    let end = low;
    while (end < this.files.length && tops[end]! < to) end++;
    return [low, end];
  }

  /** The lines of an open file that stand between two heights. */
  linesBetween(i: number, from: number, to: number): [number, number] {
    const top = this.tops[i]! + headHeight;
    return [Math.max(0, Math.floor((from - top) / lineHeight)), Math.max(0, Math.ceil((to - top) / lineHeight))];
  }

  /** Sees to it that a file is loaded. */
  want(f: ShownFile) {
    if (f.asked || f.without) return;
    f.asked = true;
    this.#waiting.push(f);
    this.#next();
  }

  #next() {
    while (this.#running < together && this.#waiting.length > 0) {
      this.#running++;
      void this.#load(this.#waiting.pop()!).finally(() => {
        this.#running--;
        this.#next();
      });
    }
  }

  async #load(f: ShownFile) {
    try {
      const patch = await answer(
        api.GET('/repositories/{house}/{name}/changes/{number}/diff/{file}', {
          params: { path: { ...this.at, file: f.about.file }, query: this.query },
        }),
      );
      f.partial = patch.partial;
      f.lines = readPatch(patch.patch);
      f.html = await highlighted(f.about.path, f.lines);
    } catch (error) {
      f.problem = (error as Error).message;
    }
  }
}
