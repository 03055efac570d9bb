// Groups a gate's requirements into the sluices of a change's way to its target. What each requirement says is the
// service's; here it is only sorted.
import type { Report, Requirement } from './api';

/** held of asked hold; what does not apply to the change is not counted. */
export type Sluice = { name: string; requirements: Requirement[]; open: boolean; held: number; asked: number };

const groups: [string, (key: string) => boolean][] = [
  ['Reviews', (k) => k.startsWith('approvals')],
  ['Owners', (k) => k.startsWith('owners')],
  ['Discussion', (k) => /^(objections|threads)/.test(k)],
  ['Content', (k) => /^(tasks|ticket|fixups|history|messages|signed)/.test(k)],
  ['Checks', (k) => /^(check|deployment)/.test(k)],
  ['Landing', () => true],
];

export const holds = (r: Requirement) => ['met', 'not-asked', 'waived'].includes(r.state);

export function sluices(report: Report): Sluice[] {
  const out: Sluice[] = groups.map(([name]) => ({ name, requirements: [], open: true, held: 0, asked: 0 }));
  for (const r of report.requirements) {
    const s = out[groups.findIndex(([, takes]) => takes(r.key))]!;
    s.requirements.push(r);
    if (r.state !== 'not-asked') s.asked++;
    if (holds(r) && r.state !== 'not-asked') s.held++;
    if (!holds(r) && r.level === 'required') s.open = false;
  }
  // What still asks for something comes first; otherwise the service's order stays.
  for (const s of out) s.requirements.sort((a, b) => Number(holds(a)) - Number(holds(b)));
  return out.filter((s) => s.requirements.length > 0);
}
