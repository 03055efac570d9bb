// Makes seen what otherwise is not: characters that have no shape, turn the direction of writing about, or look like a space.

const unseen = /[\p{Cc}\p{Cf}\p{Co}\p{Zl}\p{Zp}\p{Variation_Selector}\p{Default_Ignorable_Code_Point}]|[^\S ]/gu;

const names: Record<string, string> = { '\r': '⟨CR⟩' };

/** The text as HTML. */
export function escaped(text: string): string {
  return text.replace(/[&<>]/g, (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;' })[c]!);
}

/** HTML in which each character that is not seen, but for tabs and new lines, stands by its number. */
export function shown(html: string): string {
  return html.replace(unseen, (c) => {
    if (c === '\t' || c === '\n') return c;
    const number = `U+${c.codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')}`;
    return `<span class="unseen" title="a character that is not seen: ${number}">${names[c] ?? `⟨${number}⟩`}</span>`;
  });
}
