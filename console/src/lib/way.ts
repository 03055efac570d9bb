// Groups a gate's requirements into the sluices of a change's way to its target, by the group that the service gives each.
// What each requirement says is the service's; here it is only sorted.
import type { Report, Requirement } from './api';

/** Of those that have to hold, held of asked do; what is only advised, or does not apply to the change, is not counted. */
export type Sluice = { name: string; requirements: Requirement[]; open: boolean; held: number; asked: number };

const names: Record<Requirement['group'], string> = {
  change: 'Change',
  review: 'Reviews',
  discussion: 'Discussion',
  content: 'Content',
  checks: 'Checks',
  landing: 'Landing',
};

export const holds = (r: Requirement) => r.state === 'met' || r.state === 'not-asked' || r.state === 'waived';

/** Whether something is missing that has to be there. */
export const stops = (r: Requirement) => !holds(r) && r.level === 'required';

/** What still asks for something, the worst first; what has to be there before what is only advised. */
export function lacking(report?: Report): Requirement[] {
  const rank = (r: Requirement) => (r.level === 'required' ? 0 : 2) + (r.state === 'missing' ? 0 : 1);
  return (report?.requirements ?? []).filter((r) => !holds(r)).sort((a, b) => rank(a) - rank(b));
}

export function sluices(report: Report): Sluice[] {
  const out = new Map<Requirement['group'], Sluice>();
  for (const group of Object.keys(names) as Requirement['group'][])
    out.set(group, { name: names[group], requirements: [], open: true, held: 0, asked: 0 });
  for (const r of report.requirements) {
    const s = out.get(r.group)!;
    s.requirements.push(r);
    if (r.state === 'not-asked' || r.level === 'advisory') continue;
    s.asked++;
    if (holds(r)) s.held++;
    if (stops(r)) s.open = false;
  }
  return [...out.values()].filter((s) => s.requirements.some((r) => r.state !== 'not-asked'));
}

/** The places that requirements come from, each once, so that they can be numbered. */
export function sources(requirements: Requirement[]): string[] {
  return [...new Set(requirements.map((r) => r.because))];
}
