<script lang="ts">
  // What a change is about: its description, tickets, labels, and what it waits for.
  import type { Change } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import EditChange from '../EditChange.svelte';
  import Panel from '../Panel.svelte';
  import Words from '../Words.svelte';
  import When from '../When.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
  /** Those of which nobody wants to know more than their name. */
  const plain = $derived(change.tickets.filter((t) => !change.ticket_answers.some((a) => a.ticket === t)));
  const states = { open: 'open', closed: 'closed', none: 'there is no such ticket', '': 'no answer yet' };
</script>

<Panel title="About" id="about" note={`authors: ${change.authors.join(', ')}`}>
  {#if page.editing}
    <EditChange {change} repo={page.repo} save={page.save} cancel={() => (page.editing = false)} />
  {:else}
    {#if change.description_html}<Words html={change.description_html} />{:else}<p class="text-soft">
        No description.
      </p>{/if}
    <p class="mt-3 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
      {#if plain.length > 0}<span
          >Tickets: {#each plain as t, n (t)}{n > 0 ? ', ' : ''}{@render ticket(t)}{/each}</span
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
    {#if change.ticket_answers.length > 0}
      <table class="mt-3 w-full text-sm">
        <caption class="sr-only">What the tracker says of tickets</caption>
        <tbody>
          {#each change.ticket_answers as a (a.ticket)}
            <tr class="border-t border-rule align-baseline">
              <th scope="row" class="max-w-48 truncate py-1 pr-3 text-left font-normal">{@render ticket(a.ticket)}</th>
              <td class="py-1 pr-3">{states[a.state ?? '']}</td>
              <td class="w-full py-1 pr-3">{a.title}</td>
              <td class="py-1 text-right whitespace-nowrap text-soft"
                >{#if a.answered_at}asked <When time={a.answered_at} />{/if}</td
              >
            </tr>
            {#if a.trouble}<tr><td></td><td colspan="3" class="pb-1 text-soft">Since then: {a.trouble}</td></tr>{/if}
          {/each}
        </tbody>
      </table>
    {/if}
  {/if}
</Panel>

{#snippet ticket(name: string)}
  {#if change.ticket_links[name]}<a
      class="plain-link"
      href={change.ticket_links[name]}
      rel="noopener noreferrer"
      target="_blank">{name}</a
    >{:else}{name}{/if}
{/snippet}
