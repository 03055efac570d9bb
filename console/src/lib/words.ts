// Words and numbers as people read them.

export function ago(time: string, now = Date.now()): string {
  const seconds = Math.max(0, Math.round((now - Date.parse(time)) / 1000));
  if (seconds < 5) return 'now';
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 172800) return `${Math.floor(seconds / 3600)} h ago`;
  return `${Math.floor(seconds / 86400)} days ago`;
}

export const exactly = (time: string) => new Date(time).toISOString().replace('T', ' ').replace('Z', ' UTC');

export const short = (id: string) => id.slice(0, 10);

export function count(n: number, noun: string): string {
  return `${n} ${noun}${n === 1 ? '' : 's'}`;
}

/** How long something lasts, from seconds. */
export function lasting(seconds: number): string {
  if (seconds < 120) return `${Math.round(seconds)} s`;
  if (seconds < 7200) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toFixed(1)} h`;
}

/** When something is to come, seen from now. */
export function ahead(time: string, now = Date.now()): string {
  const seconds = (Date.parse(time) - now) / 1000;
  if (seconds < 5) return 'now';
  if (seconds < 60) return `in ${Math.round(seconds)} s`;
  if (seconds < 7200) return `in ${Math.round(seconds / 60)} min`;
  if (seconds < 172800) return `in ${Math.round(seconds / 3600)} h`;
  return `in ${Math.round(seconds / 86400)} days`;
}

/** When a change is likely to land; undefined: it cannot be said. */
export function likely(l: { half?: string; most?: string } | undefined): string | undefined {
  if (!l?.half || !l.most) return undefined;
  const [half, most] = [ahead(l.half), ahead(l.most)];
  return half === most ? half : `${half}; nine of ten like it ${most}`;
}

/** How what was said about landings came out. */
export function kept(k: { of: number; half: number; most: number }): string {
  if (k.of < 10) return ''; // too few to say how many of a hundred
  return `Of the last ${k.of} that landed, ${Math.round((100 * k.half) / k.of)} % did within the time that was said for half of them, and ${Math.round((100 * k.most) / k.of)} % within that for nine of ten.`;
}
