<script lang="ts">
  // Where the change and its target do not go together: shown only where they do not.
  import { onMount } from 'svelte';
  import Panel from '../Panel.svelte';
  import { count } from '../../lib/words';
  import type { ChangePage } from '../../lib/change.svelte';
  let { page }: { page: ChangePage } = $props();
  onMount(() => void page.conflicts.reload()); // the change is known by now
  const found = $derived(page.conflicts.value);
</script>

{#if found && found.files.length > 0}
  <Panel
    title="Conflicts"
    id="conflicts"
    note={`${found.source} and ${found.target} do not go together in ${count(found.files.length, 'file')}`}
  >
    {#each found.files as f (f.path)}
      <h3 class="mt-2 font-mono text-sm break-all">{f.path}</h3>
      <p class="text-sm text-soft">
        {f.what ?? ''}
        {#if f.with.length > 0}Touched since by {#each f.with as n, i (n)}{i > 0 ? ', ' : ''}<a
              class="plain-link"
              href={`/${page.repo}/changes/${n}`}>change {n}</a
            >{/each}.{/if}
      </p>
      {#each f.places as place, n (n)}
        <pre class="my-1 overflow-x-auto border-l-4 border-rust bg-panel p-2 text-xs">{place}</pre>
      {/each}
      {#if f.more}<p class="text-sm text-soft">and {count(f.more, 'place')} more</p>{/if}
    {/each}
    <p class="mt-3 text-sm">Resolve them in a clone:</p>
    <pre class="mt-1 overflow-x-auto text-xs">{found.commands.join('\n')}</pre>
  </Panel>
{/if}
