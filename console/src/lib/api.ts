// The one place where the console talks to the service. Calls and types are generated from the service's own description.
import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

type Schemas = components['schemas'];
export type Me = Schemas['Me'];
export type Repository = Schemas['Repository'];
export type Branch = Schemas['Branch'];
export type Commit = Schemas['Commit'];
export type Change = Schemas['Change'];
export type ChangeEdit = Schemas['ChangeEdit'];
export type Revision = Schemas['Revision'];
export type Review = Schemas['Review'];
export type Report = Schemas['Report'];
export type Requirement = Schemas['Requirement'];
export type Step = Schemas['Step'];
export type Source = Schemas['Source'];
export type Diff = Schemas['Diff'];
export type FileDiff = Schemas['FileDiff'];
export type FilePatch = Schemas['FilePatch'];
export type DraftComment = Schemas['DraftComment'];
export type Waiver = Schemas['Waiver'];
export type WaiverPlan = Schemas['WaiverPlan'];
export type Notifications = Schemas['Notifications'];
export type Following = Schemas['Following'];
export type LineOrigins = Schemas['LineOrigins'];
export type Preview = Schemas['Preview'];
export type Queue = Schemas['Queue'];
export type Entry = Schemas['Entry'];
export type QueueRehearsal = Schemas['QueueRehearsal'];
export type TimeNumbers = Schemas['TimeNumbers'];
export type Likely = Schemas['Likely'];
export type Forecast = Schemas['Forecast'];
export type ForecastFigures = Schemas['ForecastFigures'];
export type Check = Schemas['Check'];
export type Line = Schemas['Line'];
export type Tree = Schemas['Tree'];
export type Rules = Schemas['Rules'];
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
export type Webhook = Schemas['Webhook'];
export type Delivery = Schemas['Delivery'];
export type CheckProgress = Schemas['CheckProgress'];

/** A repository, and a change of one, as paths name them. */
export type InRepo = { house: string; name: string };
export type InChange = InRepo & { number: number };

/** Takes HOUSE/NAME apart. */
export function repoNamed(repository: string): InRepo {
  const [house = '', name = ''] = repository.split('/');
  return { house, name };
}

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

/** The calls of the service, by path. Their answers are taken with answer. */
export const api = createClient<paths>({
  baseUrl: '/api/v1',
  fetch: (request) => {
    waiting(1);
    return fetch(request)
      .catch(() => {
        throw new Problem(0, 'The service cannot be reached. It is tried again when it answers.');
      })
      .finally(() => setTimeout(() => waiting(-1))); // once what waits for the answer has had it
  },
});

/** What a call answers; what went wrong is thrown as a Problem. */
export async function answer<T>(
  call: Promise<{ data?: T; error?: { detail?: string }; response: Response }>,
): Promise<T> {
  const { data, error, response } = await call;
  if (data !== undefined) return data;
  throw new Problem(response.status, error?.detail ?? `The service answered ${response.status}.`);
}
