// Reads a unified diff of one file into lines for showing, and pairs them for two columns.

export type PatchLine = { kind: 'added' | 'removed' | 'same' | 'gap'; text: string; old?: number; new?: number };
export type Pair = { left?: PatchLine; right?: PatchLine; gap?: PatchLine };

/** The lines of a file's unified diff; where it skips lines of the file, a gap. */
export function readPatch(patch: string): PatchLine[] {
  const lines: PatchLine[] = [];
  let [before, after] = [0, 0];
  for (const line of patch.split('\n')) {
    const hunk = /^@@ -(\d+)(?:,\d+)? \+(\d+)(?:,\d+)? @@(.*)/.exec(line);
    if (hunk) {
      [before, after] = [Number(hunk[1]), Number(hunk[2])];
      lines.push({ kind: 'gap', text: hunk[3]?.trim() ?? '' });
    } else if (lines.length === 0) {
      continue; // what stands before the first hunk is told by the list of files
    } else if (line.startsWith('\\')) {
      lines.push({ kind: 'gap', text: 'no new line at the end of the line above' });
    } else if (line.startsWith('+')) {
      lines.push({ kind: 'added', text: line.slice(1), new: after++ });
    } else if (line.startsWith('-')) {
      lines.push({ kind: 'removed', text: line.slice(1), old: before++ });
    } else if (line.startsWith(' ')) {
      lines.push({ kind: 'same', text: line.slice(1), old: before++, new: after++ });
    }
  }
  return lines;
}

/** Puts what went and what came beside each other. */
export function pairs(lines: PatchLine[]): Pair[] {
  const out: Pair[] = [];
  let waiting = 0; // removed lines at the end of out that nothing stands beside yet
  for (const line of lines) {
    if (line.kind === 'removed') {
      out.push({ left: line });
      waiting++;
    } else if (line.kind === 'added' && waiting > 0) {
      out[out.length - waiting--]!.right = line;
    } else {
      waiting = 0;
      out.push(
        line.kind === 'gap' ? { gap: line } : line.kind === 'added' ? { right: line } : { left: line, right: line },
      );
    }
  }
  return out;
}
