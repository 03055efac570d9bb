<script lang="ts">
  import { Table, TableBody, TableBodyCell, TableBodyRow, TableHead, TableHeadCell } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import { get, type Repository } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { count } from '../lib/words';

  const repos = new Live(() => get<Repository[]>('/repositories'));
  $effect(() => follow('', repos));
  const answer = $derived(
    repos.value && `You may read ${repos.value.length === 1 ? '1 repository' : `${repos.value.length} repositories`}.`,
  );
</script>

<Page title="Repositories" {answer} problem={repos.problem} command="tavrin repo list">
  {#if repos.value?.length === 0}
    <p>None yet. An administrator makes one with <code>tavrin repo create HOUSE/NAME</code>.</p>
  {:else if repos.value}
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
                >{r.rules_version ? `version ${r.rules_version}` : 'none: nothing is protected'}</TableBodyCell
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
