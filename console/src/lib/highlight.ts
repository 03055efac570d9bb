// Colours code by its language. The library is loaded when the first file is shown that it knows.
import type { HLJSApi } from 'highlight.js';
import type { PatchLine } from './patch';

let library: Promise<HLJSApi> | undefined;

/** Longer stretches are shown plain: colouring them would hold up the page. */
const longest = 200_000;

const names: Record<string, string> = {
  Makefile: 'makefile',
  Dockerfile: 'bash',
  svelte: 'xml',
  vue: 'xml',
  h: 'cpp',
  mjs: 'javascript',
  cjs: 'javascript',
};

/** The HTML of each line, or undefined where the language is not known. What is in a line is escaped by the library. */
export async function highlighted(path: string, lines: PatchLine[]): Promise<Map<PatchLine, string> | undefined> {
  const file = path.slice(path.lastIndexOf('/') + 1);
  const language = names[file] ?? names[file.slice(file.lastIndexOf('.') + 1)] ?? file.slice(file.lastIndexOf('.') + 1);
  library ??= import('highlight.js/lib/common').then((m) => m.default);
  const hljs = await library;
  if (!hljs.getLanguage(language)) return undefined;
  const out = new Map<PatchLine, string>();
  // The file as it was and as it is are coloured apart, each stretch by itself, so that what spans lines is seen.
  for (const side of ['old', 'new'] as const) {
    let stretch: PatchLine[] = [];
    const colour = () => {
      const text = stretch.map((l) => l.text).join('\n');
      if (text.length <= longest) {
        const html = splitLines(hljs.highlight(text, { language, ignoreIllegals: true }).value);
        stretch.forEach((l, i) => out.set(l, html[i] ?? ''));
      }
      stretch = [];
    };
    for (const line of lines) {
      if (line.kind === 'gap') colour();
      else if (line[side] !== undefined) stretch.push(line);
    }
    colour();
  }
  return out;
}

/** Splits HTML at line ends; marks that are open there are closed and opened again. */
export function splitLines(html: string): string[] {
  const open: string[] = [];
  return html.split('\n').map((line) => {
    const before = open.join('');
    for (const tag of line.match(/<span[^>]*>|<\/span>/g) ?? []) {
      if (tag === '</span>') open.pop();
      else open.push(tag);
    }
    return before + line + '</span>'.repeat(open.length);
  });
}
