<script lang="ts">
  import { Table, TableBody, TableBodyCell, TableBodyRow, TableHead, TableHeadCell } from 'flowbite-svelte';
  import Mark, { type State } from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import When from '../parts/When.svelte';
  import { answer as answered, api, type DeskItem } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { webhooksPage } from '../lib/place';
  import { count } from '../lib/words';

  const repos = new Live(() => answered(api.GET('/repositories')));
  const command = 'tavrin desk\ntavrin repo list';
  const desk = new Live(() => answered(api.GET('/desk')));
  $effect(() => follow(repos, desk));
  const answer = $derived.by(() => {
    if (!repos.value || !desk.value) return undefined;
    const n = desk.value.length;
    return n === 0 ? 'Nothing waits for you.' : n === 1 ? '1 thing waits for you.' : `${n} things wait for you.`;
  });
  const wants: Record<DeskItem['kind'], [State, string]> = {
    disk: ['missing', 'disk'],
    stopped: ['missing', 'stopped'],
    silent: ['pending', 'silent check'],
    webhook: ['missing', 'webhook'],
    'red-tip': ['failed', 'red tip'],
    acknowledge: ['waived', 'to acknowledge'],
    review: ['missing', 'review'],
    'look-again': ['pending', 'look again'],
    ejected: ['ejected', 'ejected'],
    conflict: ['missing', 'conflict'],
    answer: ['pending', 'answer'],
    decide: ['missing', 'decide'],
    own: ['none', 'yours, held up'],
  };
  const to = (i: DeskItem) =>
    i.kind === 'disk'
      ? '/'
      : i.kind === 'acknowledge'
        ? `/${i.repository}#waivers`
        : i.kind === 'webhook'
          ? `${webhooksPage(i.repository)}?id=${i.id}`
          : i.kind === 'silent' || i.kind === 'red-tip'
            ? `/${i.repository}/queue`
            : i.kind === 'stopped'
              ? `/${i.repository}`
              : i.kind !== 'decide'
                ? `/${i.repository}/changes/${i.number}`
                : i.repository.includes('/')
                  ? `/${i.repository}/rules`
                  : `/houses/${i.repository}/rules`;
</script>

<Page title="Desk" {answer} problem={repos.problem ?? desk.problem} {command}>
  {#if desk.value && desk.value.length > 0}
    <Panel title="What waits for you" note="in every repository, the most pressing first">
      <ul class="divide-y divide-rule">
        {#each desk.value as i, n (n)}
          <li class="grid grid-cols-[auto_1fr] gap-x-3 py-1.5">
            <Mark state={wants[i.kind][0]} />
            <div class="min-w-0">
              <p class="flex flex-wrap gap-x-2">
                <span class="font-medium">{wants[i.kind][1]}{i.asked ? ', you were asked' : ''}</span>
                <a class="plain-link min-w-0 break-words" href={to(i)}
                  >{['decide', 'acknowledge', 'silent', 'webhook', 'red-tip', 'stopped', 'disk'].includes(i.kind)
                    ? i.title
                    : `${i.number}. ${i.title}`}</a
                >
                <span class="font-mono text-sm text-soft">{i.repository}</span>
                <span class="text-sm text-soft"><When time={i.since} /></span>
              </p>
              <p class="text-sm break-words text-soft">{i.what}</p>
            </div>
          </li>
        {/each}
      </ul>
    </Panel>
  {/if}
  {#if repos.value?.length === 0}
    <p>There are no repositories yet. An administrator makes one with <code>tavrin repo create HOUSE/NAME</code>.</p>
  {:else if repos.value}
    <h2 class="mb-2 text-lg font-semibold">Repositories</h2>
    <div class="overflow-x-auto rounded-lg border border-rule">
      <Table class="text-ink" color="default">
        <TableHead class="bg-panel text-soft dark:bg-panel dark:text-soft normal-case">
          <TableHeadCell>Repository</TableHeadCell>
          <TableHeadCell>Rules</TableHeadCell>
          <TableHeadCell class="text-right">Open changes</TableHeadCell>
          <TableHeadCell class="text-right">In the queue</TableHeadCell>
          <TableHeadCell>Your role</TableHeadCell>
        </TableHead>
        <TableBody>
          {#each repos.value as r (r.name)}
            <TableBodyRow class="bg-panel border-rule">
              <TableBodyCell class="text-ink py-3"
                ><a class="plain-link font-mono" href={`/${r.name}`}>{r.name}</a></TableBodyCell
              >
              <TableBodyCell class="text-ink py-3"
                >{r.rules_version
                  ? `version ${r.rules_version}${r.house_version ? ', and the house’s' : ''}`
                  : r.house_version
                    ? 'the house’s'
                    : 'none: nothing is protected'}</TableBodyCell
              >
              <TableBodyCell class="text-ink py-3 text-right"
                ><a class="hover:underline" href={`/${r.name}/changes`}>{r.open_changes}</a></TableBodyCell
              >
              <TableBodyCell class="text-ink py-3 text-right"
                ><a
                  class="hover:underline"
                  href={`/${r.name}/queue`}
                  aria-label={count(r.in_queue, 'change') + ' in the queue'}>{r.in_queue}</a
                ></TableBodyCell
              >
              <TableBodyCell class="text-ink py-3">{r.role}</TableBodyCell>
            </TableBodyRow>
          {/each}
        </TableBody>
      </Table>
    </div>
  {/if}
</Page>
