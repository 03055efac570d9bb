// Rules belong to a repository or to a house: where the service keeps them, where the console shows them, and the calls
// about them.
import { answer, api } from './api';

export type RulesPlace = ReturnType<typeof rulesPlace>;

export function rulesPlace(house: string, name?: string) {
  return name === undefined ? ofHouse(house) : ofRepository(house, name);
}

/** Where the rules are of which the service says that they are of HOUSE/NAME, or of HOUSE. */
export function rulesOf(where: string): RulesPlace {
  const [house = '', name] = where.split('/');
  return rulesPlace(house, name);
}

function ofRepository(house: string, name: string) {
  const repo = `${house}/${name}`;
  const path = { house, name };
  const at = { params: { path } };
  return {
    where: repo,
    page: `/${repo}/rules`,
    flag: `--repo ${repo}`,
    read: (version?: number) =>
      answer(api.GET('/repositories/{house}/{name}/rules', { params: { path, query: { version } } })),
    versions: () => answer(api.GET('/repositories/{house}/{name}/rules/versions', at)),
    differences: (from: number, to: number) =>
      answer(api.GET('/repositories/{house}/{name}/rules/differences', { params: { path, query: { from, to } } })),
    proposals: () => answer(api.GET('/repositories/{house}/{name}/rules/proposals', at)),
    suspensions: () => answer(api.GET('/repositories/{house}/{name}/rules/suspensions', at)),
    decide: (id: number, agree: boolean) =>
      answer(api.POST('/repositories/{house}/{name}/rules/decisions', { ...at, body: { id, agree } })),
    resume: (protection: string) =>
      answer(api.POST('/repositories/{house}/{name}/rules/resumptions', { ...at, body: { protection } })),
    attempt: (text: string, last: number) =>
      answer(api.POST('/repositories/{house}/{name}/rules/try', { ...at, body: { text, last } })),
    apply: (text: string, reason: string, over: number) =>
      answer(
        api.PUT('/repositories/{house}/{name}/rules', {
          params: { path, header: { 'If-Match': `"${over}"` } },
          body: { text, reason },
        }),
      ),
  };
}

function ofHouse(house: string) {
  const path = { house };
  const at = { params: { path } };
  return {
    where: house,
    page: `/houses/${house}/rules`,
    flag: `--house ${house}`,
    read: (version?: number) => answer(api.GET('/houses/{house}/rules', { params: { path, query: { version } } })),
    versions: () => answer(api.GET('/houses/{house}/rules/versions', at)),
    differences: (from: number, to: number) =>
      answer(api.GET('/houses/{house}/rules/differences', { params: { path, query: { from, to } } })),
    proposals: () => answer(api.GET('/houses/{house}/rules/proposals', at)),
    suspensions: () => answer(api.GET('/houses/{house}/rules/suspensions', at)),
    decide: (id: number, agree: boolean) =>
      answer(api.POST('/houses/{house}/rules/decisions', { ...at, body: { id, agree } })),
    resume: (protection: string) =>
      answer(api.POST('/houses/{house}/rules/resumptions', { ...at, body: { protection } })),
    attempt: (text: string, last: number) =>
      answer(api.POST('/houses/{house}/rules/try', { ...at, body: { text, last } })),
    apply: (text: string, reason: string, over: number) =>
      answer(
        api.PUT('/houses/{house}/rules', {
          params: { path, header: { 'If-Match': `"${over}"` } },
          body: { text, reason },
        }),
      ),
  };
}

/** Where the console shows the webhooks of HOUSE/NAME, of HOUSE, or, of nothing, of the service. */
export function webhooksPage(of: string): string {
  return of.includes('/') ? `/${of}/webhooks` : of ? `/houses/${of}/webhooks` : '/webhooks';
}
