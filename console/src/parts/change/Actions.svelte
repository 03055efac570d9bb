<script lang="ts">
  // What can be done with a change as a whole; what its way offers as a next step has its button there.
  import { Button, Input, Label, Select, Textarea } from 'flowbite-svelte';
  import type { Change } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import { stops } from '../../lib/way';
  import WouldLand from './WouldLand.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
  const waivable = $derived((page.report.value?.requirements ?? []).some((r) => stops(r) && r.sources.length > 0));
  let undoing = $state(false);
  let reason = $state('');
  const names = { 'squash-then-merge': 'squash, then merge', 'rebase-then-merge': 'rebase, then merge' } as Record<
    string,
    string
  >;
  const strategies = $derived([
    ...(change.strategy
      ? [{ value: '', name: `${names[change.strategy] ?? change.strategy}, the rules’ default` }]
      : []),
    ...(change.strategies ?? [])
      .map((s) => s.strategy as string)
      .filter((s) => s !== change.strategy)
      .map((s) => ({ value: s, name: names[s] ?? s })),
  ]);
  $effect(() => {
    // Without a default somebody has to choose, and what the rules do not allow any more is no choice.
    const first = strategies[0];
    if (first && !strategies.some((s) => s.value === page.strategy)) page.strategy = first.value;
  });
</script>

{#if page.alive}
  <div class="mt-3 flex flex-wrap items-center gap-3">
    {#if page.queued}
      <Button size="sm" color="alternative" onclick={page.leave}>Leave the queue</Button>
    {:else}
      <Button size="sm" onclick={page.join}>Join the queue</Button>
      <Label class="flex items-center gap-2 text-ink"
        >by <Select size="sm" class="w-60" items={strategies} bind:value={page.strategy} placeholder="" /></Label
      >
      {#if page.final && page.message === undefined}
        <button
          type="button"
          class="plain-link cursor-pointer text-sm"
          onclick={() => (page.message = change.message ?? '')}>Edit the message…</button
        >
      {/if}
    {/if}
    {#if change.state === 'draft' && page.mayEdit && !page.offers('mark-ready')}
      <Button size="sm" color="alternative" onclick={page.publish}>Publish</Button>
    {/if}
    <Button size="sm" color="alternative" onclick={page.close}>Close</Button>
    {#if (change.behind ?? 0) > 0 && page.mayEdit && !page.offers('update')}
      <Button
        size="sm"
        color="alternative"
        title="Landing does not need it: the queue rehearses it on the newest target"
        onclick={page.update}>Update from {change.target}</Button
      >
    {/if}
    {#if waivable}
      <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => (page.waiving = true)}
        >Waive…</button
      >
    {/if}
  </div>
  {#if page.final && !page.queued && page.message !== undefined}
    <Label class="mt-3 block max-w-3xl"
      >Message of the commit; trailers are added
      <Textarea class="mt-1 w-full font-mono text-sm" rows={6} maxlength={16384} bind:value={page.message} />
    </Label>
    <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => (page.message = undefined)}
      >As the rules make it</button
    >
  {/if}
  <WouldLand {page} />
{:else if change.state === 'landed'}
  {#if undoing}
    <form
      class="mt-3 flex flex-wrap items-center gap-2"
      onsubmit={(event) => {
        event.preventDefault();
        void page.undo(reason);
      }}
    >
      <Input aria-label="Why" placeholder="why" class="max-w-md" bind:value={reason} required maxlength={200} />
      <Button type="submit" size="sm">Open a change that undoes it</Button>
      <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => (undoing = false)}>Cancel</button>
    </form>
  {:else}
    <p class="mt-3 text-sm">
      <button type="button" class="plain-link cursor-pointer" onclick={() => (undoing = true)}>Undo it…</button>
    </p>
  {/if}
{:else if change.state === 'closed'}
  <Button class="mt-3" size="sm" color="alternative" onclick={page.reopen}>Reopen</Button>
{/if}
<p class="mt-2 text-sm text-teal" aria-live="polite">{page.told}</p>
