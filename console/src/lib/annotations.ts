// What checks say about lines, by file and line.
import type { Check } from './api';

export type Said = { check: string; level: string; text: string };
export type SaidOf = (path: string, line: number) => Said[] | undefined;

/** Gathers what checks say about lines, each with the words for where they ran. */
export function annotations(all: { check: Check; on: string }[]): SaidOf {
  const by = new Map<string, Said[]>();
  for (const { check, on } of all)
    for (const a of check.annotations ?? []) {
      const key = `${a.line}:${a.path}`;
      const said = { check: check.name + on, level: a.level, text: a.text };
      if (!by.get(key)?.some((s) => s.text === said.text && s.level === said.level))
        by.set(key, [...(by.get(key) ?? []), said]);
    }
  return (path, line) => by.get(`${line}:${path}`);
}
