<script lang="ts">
  // What a change is about: its description, tickets, labels, and what it waits for.
  import type { Change } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import EditChange from '../EditChange.svelte';
  import Panel from '../Panel.svelte';
  import Words from '../Words.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
</script>

<Panel title="About" id="about" note={`authors: ${change.authors.join(', ')}`}>
  {#if page.editing}
    <EditChange {change} repo={page.repo} save={page.save} cancel={() => (page.editing = false)} />
  {:else}
    {#if change.description_html}<Words html={change.description_html} />{:else}<p class="text-soft">
        No description.
      </p>{/if}
    <p class="mt-3 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
      {#if change.tickets.length > 0}<span
          >Tickets: {#each change.tickets as t, n (t)}{n > 0 ? ', ' : ''}{#if change.ticket_links[t]}<a
                class="plain-link"
                href={change.ticket_links[t]}
                rel="noopener noreferrer"
                target="_blank">{t}</a
              >{:else}{t}{/if}{/each}</span
        >{/if}
      {#if change.labels.length > 0}<span>Labelled {change.labels.join(', ')}</span>{/if}
      {#if change.depends_on.length > 0}<span
          >Waits for
          {#each change.depends_on as n, i (n)}{i > 0 ? ', ' : ''}<a
              class="plain-link"
              href={`/${page.repo}/changes/${n}`}>change {n}</a
            >{/each}</span
        >{/if}
      {#if page.mayEdit}
        <button type="button" class="plain-link cursor-pointer" onclick={() => (page.editing = true)}>Edit</button>
      {/if}
      <button type="button" class="plain-link cursor-pointer" onclick={page.hear}
        >{page.hears ? 'Unfollow' : 'Follow'}</button
      >
    </p>
  {/if}
</Panel>
