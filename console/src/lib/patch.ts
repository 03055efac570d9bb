// Reads a unified diff into files and lines for showing.

export type PatchLine = { kind: 'added' | 'removed' | 'same' | 'gap'; text: string; old?: number; new?: number };
export type PatchFile = { path: string; notes: string[]; lines: PatchLine[] };

export function readPatch(patch: string): PatchFile[] {
  const files: PatchFile[] = [];
  let file: PatchFile | undefined;
  let [before, after] = [0, 0];
  for (const line of patch.split('\n')) {
    if (line.startsWith('diff --git ')) {
      file = { path: line.slice(line.lastIndexOf(' b/') + 3), notes: [], lines: [] };
      files.push(file);
      continue;
    }
    if (!file) continue;
    const hunk = /^@@ -(\d+)(?:,\d+)? \+(\d+)(?:,\d+)? @@(.*)/.exec(line);
    if (hunk) {
      [before, after] = [Number(hunk[1]), Number(hunk[2])];
      file.lines.push({ kind: 'gap', text: hunk[3]?.trim() ?? '' });
    } else if (file.lines.length === 0) {
      if (/^(rename|new file|deleted file|old mode|new mode|Binary)/.test(line)) file.notes.push(line);
    } else if (line.startsWith('+')) {
      file.lines.push({ kind: 'added', text: line.slice(1), new: after++ });
    } else if (line.startsWith('-')) {
      file.lines.push({ kind: 'removed', text: line.slice(1), old: before++ });
    } else if (line.startsWith(' ')) {
      file.lines.push({ kind: 'same', text: line.slice(1), old: before++, new: after++ });
    }
  }
  return files;
}
