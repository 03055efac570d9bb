// What somebody can do next about a requirement: the words of a button, and what pressing it does.
import type { Step } from './api';

type Action = Step['action'];

/** How a step is taken from a page: by a call, by a form of the page, by another page, or outside, with git. */
export type How =
  | { by: 'call'; call: 'reopen' | 'close' | 'update' | 'publish' | 'withdraw' | 'join' | 'rerun' | 'ask' }
  | { by: 'place'; anchor: string }
  | { by: 'page'; page: 'gate' | 'rules' }
  | { by: 'git' };

/** Every action has its words and its way; the compiler sees to it that none is forgotten. */
export const steps: Record<Action, { words: string; how: How }> = {
  approve: { words: 'Review it', how: { by: 'place', anchor: 'say' } },
  'withdraw-review': { words: 'Withdraw your objection', how: { by: 'call', call: 'withdraw' } },
  'resolve-threads': { words: 'Go to the discussions', how: { by: 'place', anchor: 'reviews' } },
  'edit-title': { words: 'Edit the title', how: { by: 'place', anchor: 'edit' } },
  'edit-description': { words: 'Edit the description', how: { by: 'place', anchor: 'edit' } },
  'edit-dependencies': { words: 'Edit what it waits for', how: { by: 'place', anchor: 'edit' } },
  'mark-ready': { words: 'Publish', how: { by: 'call', call: 'publish' } },
  reopen: { words: 'Reopen', how: { by: 'call', call: 'reopen' } },
  close: { words: 'Close', how: { by: 'call', call: 'close' } },
  update: { words: 'Update the branch', how: { by: 'call', call: 'update' } },
  push: { words: 'Push more commits', how: { by: 'git' } },
  'restore-branch': { words: 'Push the branch again', how: { by: 'git' } },
  fold: { words: 'Fold the fixups and push', how: { by: 'git' } },
  reword: { words: 'Reword and push', how: { by: 'git' } },
  sign: { words: 'Sign and push', how: { by: 'git' } },
  'sign-off': { words: 'Sign off and push', how: { by: 'git' } },
  join: { words: 'Join the queue', how: { by: 'call', call: 'join' } },
  rejoin: { words: 'Join the queue again', how: { by: 'call', call: 'join' } },
  rerun: { words: 'Rerun', how: { by: 'call', call: 'rerun' } },
  'ask-tracker': { words: 'Ask the tracker again', how: { by: 'call', call: 'ask' } },
  'see-gate': { words: 'See what it lacks', how: { by: 'page', page: 'gate' } },
  'change-rules': { words: 'Change the rules', how: { by: 'page', page: 'rules' } },
};

/** Whether a step is somebody's to take; a step without names is whoever may write's. */
export const isFor = (step: Step, login: string) => step.who.length === 0 || step.who.includes(login);

/** Lists logins, the first five when there are more than six. */
export function few(logins: string[]): string {
  if (logins.length > 6) return `${logins.slice(0, 5).join(', ')} or ${logins.length - 5} others`;
  return logins.length < 2 ? logins.join('') : `${logins.slice(0, -1).join(', ')} or ${logins.at(-1)}`;
}
