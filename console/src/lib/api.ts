// The one place where the console talks to the service. Types are generated from the service's own description.
import type { components } from './schema';

type Schemas = components['schemas'];
export type Me = Schemas['Me'];
export type Repository = Schemas['Repository'];
export type Branch = Schemas['Branch'];
export type Commit = Schemas['Commit'];
export type Change = Schemas['Change'];
export type Revision = Schemas['Revision'];
export type Review = Schemas['Review'];
export type Report = Schemas['Report'];
export type Requirement = Schemas['Outcome'];
export type Diff = Schemas['Diff'];
export type FileDiff = Schemas['FileDiff'];
export type FilePatch = Schemas['FilePatch'];
export type DraftComment = Schemas['DraftComment'];
export type Comment = Schemas['Comment'];
export type Waiver = Schemas['Waiver'];
export type WaiverPlan = Schemas['WaiverPlan'];
export type Notifications = Schemas['Notifications'];
export type Following = Schemas['Following'];
export type LineOrigins = Schemas['LineOrigins'];
export type Preview = Schemas['Preview'];
export type Laid = Schemas['Laid'];
export type Feed = Schemas['Feed'];
export type Queue = Schemas['Queue'];
export type Entry = Schemas['Entry'];
export type Check = Schemas['Check'];
export type Line = Schemas['Line'];
export type Tree = Schemas['Tree'];
export type Rules = Schemas['Rules'];
export type RulesApplied = Schemas['RulesApplied'];
export type RulesCheck = Schemas['RulesCheck'];
export type RulesTrial = Schemas['RulesTrial'];
export type Proposal = Schemas['Proposal'];
export type Suspension = Schemas['Suspension'];
export type Template = Schemas['Template'];
export type Advice = Schemas['Advice'];
export type Difference = Schemas['Difference'];
export type BranchRules = Schemas['BranchRules'];
export type PatternMatches = Schemas['PatternMatches'];
export type DeskItem = Schemas['DeskItem'];
export type Thread = Schemas['Thread'];
export type Area = Schemas['Area'];
export type PathOwners = Schemas['PathOwners'];
export type OwnershipGaps = Schemas['OwnershipGaps'];
export type ReviewLoad = Schemas['ReviewLoad'];
export type ChangeAreas = Schemas['ChangeAreas'];

/** What the service says of a request that did not work, in its own words. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

// How many answers are on their way: while there are any, the page does not show yet what it is about to show, and says so.
let awaited = 0;
function waiting(by: number) {
  awaited += by;
  document.documentElement.dataset.awaits = String(awaited);
}

async function call<T>(...request: [method: string, path: string, body?: unknown, headers?: Record<string, string>]) {
  waiting(1);
  try {
    return await ask<T>(...request);
  } finally {
    setTimeout(() => waiting(-1)); // once what waits for the answer has had it
  }
}

async function ask<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
  let response: Response;
  try {
    response = await fetch('/api/v1' + path, {
      method,
      headers: body === undefined ? headers : { 'Content-Type': 'application/json', ...headers },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, 'The service cannot be reached. It is tried again when it answers.');
  }
  if (response.ok) return (await response.json()) as T;
  const report = (await response.json().catch(() => ({}))) as { detail?: string };
  throw new Problem(response.status, report.detail ?? `The service answered ${response.status}.`);
}

export const get = <T>(path: string) => call<T>('GET', path);
export const post = <T>(path: string, body?: unknown) => call<T>('POST', path, body);
export const put = <T>(path: string, body: unknown, headers?: Record<string, string>) =>
  call<T>('PUT', path, body, headers);
export const patch = <T>(path: string, body: unknown) => call<T>('PATCH', path, body);
export const remove = <T>(path: string) => call<T>('DELETE', path);
