// Rules belong to a repository or to a house: where the service keeps them and where the console shows them.

export type RulesPlace = { where: string; api: string; page: string; flag: string };

export function rulesPlace(house: string, name?: string): RulesPlace {
  if (!name) return { where: house, api: `/houses/${house}`, page: `/houses/${house}/rules`, flag: `--house ${house}` };
  const repo = `${house}/${name}`;
  return { where: repo, api: `/repositories/${repo}`, page: `/${repo}/rules`, flag: `--repo ${repo}` };
}
