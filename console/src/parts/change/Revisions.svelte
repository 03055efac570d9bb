<script lang="ts">
  // The revisions of a change, with the commits of each.
  import type { Change, Revision } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import { count } from '../../lib/words';
  import Id from '../Id.svelte';
  import Loaded from '../Loaded.svelte';
  import Name from '../Name.svelte';
  import Panel from '../Panel.svelte';
  import When from '../When.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
  const kinds: Record<Revision['kind'], string> = {
    '': '',
    first: '',
    added: 'adds commits',
    rebased: 'rebased: the same difference as before',
    folded: 'folds fixups, and nothing else',
    rewritten: 'rewritten',
    retargeted: 'goes to another branch',
  };
</script>

<Panel
  title="Revisions"
  id="revisions"
  note={`the newest is ${change.revision}; ${change.ahead ?? 0} ahead of ${change.target}, ${change.behind ?? 0} behind`}
>
  <Loaded of={page.revisions}>
    {#snippet children(revisions)}
      <ol class="divide-y divide-rule">
        {#each revisions as r (r.number)}
          <li class="py-2">
            <p class="flex flex-wrap gap-x-3 text-sm">
              <span class="font-medium">Revision {r.number}</span><Id id={r.head} />
              <span>{r.pushed_by}, <When time={r.created_at} /></span>
              <span class="text-soft">{count(r.files, 'file')}, +{r.added} −{r.removed}</span>
              <span class="text-soft">{kinds[r.kind]}</span>
            </p>
            <ul class="mt-1 ml-4 text-sm">
              {#each r.commits ?? [] as k (k.id)}<li class="flex gap-3">
                  <Id id={k.id} /><span class="min-w-0 truncate"><Name text={k.subject} /></span>
                  {#if k.signed_by}<span class="text-teal">signed by {k.signed_by}</span>
                  {:else if k.signature && k.signature !== 'not signed'}<span class="text-ochre">{k.signature}</span
                    >{/if}
                </li>{/each}
            </ul>
          </li>
        {/each}
      </ol>
    {/snippet}
  </Loaded>
</Panel>
