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
