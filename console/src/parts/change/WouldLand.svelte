<script lang="ts">
  // Which commits a landing would bring, by the strategy that is chosen; worked out when somebody asks.
  import Id from '../Id.svelte';
  import type { ChangePage } from '../../lib/change.svelte';
  import { answer, api } from '../../lib/api';
  import type { components } from '../../lib/schema';
  let { page }: { page: ChangePage } = $props();
  let shown = $state<components['schemas']['LandingPreview']>();
  let problem = $state<string>();

  async function ask() {
    problem = undefined;
    shown = undefined;
    const query = { strategy: page.strategy || undefined, message: (page.final && page.message) || undefined };
    try {
      shown = await answer(
        api.GET('/repositories/{house}/{name}/changes/{number}/queue/preview', {
          params: { ...page.params, query },
        }),
      );
    } catch (error) {
      problem = (error as Error).message;
    }
  }
</script>

<p class="mt-2 text-sm">
  <button type="button" class="plain-link cursor-pointer" onclick={ask}>See the commits that would land</button>
</p>
<div aria-live="polite">
  {#if problem}<p class="mt-1 text-sm text-rust">{problem}</p>{/if}
  {#if shown?.obstacle}
    <p class="mt-1 text-sm">By {shown.strategy} nothing would come to {shown.target}: {shown.obstacle}</p>
  {:else if shown}
    <p class="mt-1 text-sm text-soft">
      By {shown.strategy}, on {shown.target} at <Id id={shown.base} />, newest first:
    </p>
    <ol class="mt-1 divide-y divide-rule text-sm">
      {#each shown.commits as c, n (n)}
        <li class="py-1">
          <span class="font-medium">{c.subject}</span>
          <span class="text-soft"
            >by {c.author}{c.parents > 1 ? ', a merge commit' : ''}{c.kept ? ', as it is' : ', made new'}</span
          >
          {#if n === 0 && !c.kept && c.body}<pre class="mt-1 text-xs whitespace-pre-wrap text-soft">{c.body}</pre>{/if}
        </li>
      {/each}
    </ol>
    {#if shown.signatures}<p class="mt-1 text-sm text-soft">{shown.signatures}</p>{/if}
  {/if}
</div>
