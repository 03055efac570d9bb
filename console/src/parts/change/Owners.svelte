<script lang="ts">
  // Which areas a change touches, whose approvals would be enough, and who was asked.
  import type { Change } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import { count } from '../../lib/words';
  import Loaded from '../Loaded.svelte';
  import Mark from '../Mark.svelte';
  import Panel from '../Panel.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
</script>

<Panel title="Owners" id="owners" note="which areas it touches, and whose approval is enough">
  <Loaded of={page.owners}>
    {#snippet children(owners)}
      {#if page.alive}
        <p class="mb-2">
          {#if owners.hopeless.length > 0}<Mark state="missing" /> No approvals can meet: {owners.hopeless.join('; ')}.
          {:else if owners.enough.length > 0}<Mark state="pending" /> Enough would be
            <span class="font-medium">{owners.enough.join(' and ')}</span>{owners.exact ? '' : ' (perhaps fewer)'}.
          {:else}<Mark state="met" /> No approval is missing.{/if}
        </p>
      {/if}
      <ul class="divide-y divide-rule text-sm">
        {#each owners.areas as a (a.area + a.source.line)}
          <li class="flex flex-wrap gap-x-4 py-1.5">
            <span class="font-medium">{a.area}</span>
            <span>{a.owners.join(', ')} <span class="text-soft">({a.people.join(', ') || 'nobody'})</span></span>
            <span class="text-soft">{count(a.paths.length, 'path')}, by {a.pattern}</span>
            {#if a.fixed_by}<span class="text-soft">fixed by {a.fixed_by}</span>{/if}
          </li>
        {/each}
        {#if owners.unowned.length > 0}
          <li class="py-1.5 text-soft">Owned by nobody: {owners.unowned.join(', ')}</li>
        {/if}
        {#each change.reviewers as r (r.who)}
          <li class="py-1.5">
            {r.optional ? 'Told of it' : 'Asked to review'}: <span class="font-medium">{r.who}</span>
            <span class="text-soft">as {r.reason} says</span>
          </li>
        {/each}
      </ul>
    {/snippet}
  </Loaded>
</Panel>
