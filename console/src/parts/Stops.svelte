<script lang="ts">
  // Why nothing lands on a branch now; for maintainers, with a way to end it, or to hold the queue.
  import { Button, Input } from 'flowbite-svelte';
  import Mark from './Mark.svelte';
  import { answer, api, type Queue } from '../lib/api';

  type Stop = Queue['stops'][number];
  let {
    stops,
    branch,
    house,
    name,
    keeps,
    done,
  }: { stops: Stop[]; branch: string; house: string; name: string; keeps: boolean; done: () => void } = $props();
  /** What is about to be done: hold the queue, free it, or end the freeze of that number. */
  let doing = $state<'hold' | 'free' | number>();
  let reason = $state('');
  let problem = $state<string>();
  const held = $derived(stops.some((s) => !s.freeze && !s.disk));

  const of = (stop: Stop) => stop.freeze ?? (stop.disk ? 'disk' : 'free');
  const begin = (what: 'hold' | 'free' | number) => {
    doing = what;
    reason = '';
    problem = undefined;
  };

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    problem = undefined;
    const queue = { params: { path: { house, name } }, body: { branch, reason } };
    try {
      if (doing === 'hold') await answer(api.POST('/repositories/{house}/{name}/queue/hold', queue));
      else if (doing !== 'free' && doing !== undefined)
        await answer(api.POST('/freezes/{id}/end', { params: { path: { id: doing } }, body: { reason } }));
      else await answer(api.POST('/repositories/{house}/{name}/queue/free', queue));
      doing = undefined;
      done();
    } catch (error) {
      problem = (error as Error).message;
    }
  }
</script>

{#snippet form(words: string)}
  <form onsubmit={submit} class="mt-2 flex flex-wrap items-center gap-2">
    <Input aria-label="Why" placeholder="why" class="max-w-md" bind:value={reason} required maxlength={200} />
    <Button type="submit" size="sm">{words}</Button>
    <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => (doing = undefined)}>Cancel</button>
    {#if problem}<p role="alert" class="w-full text-rust">{problem}</p>{/if}
  </form>
{/snippet}

{#each stops as stop (of(stop))}
  <div role="status" class="mb-3 border-l-4 border-ochre bg-panel p-3">
    <p class="flex flex-wrap items-baseline justify-between gap-x-4">
      <span><Mark state="pending" /> <b>{stop.words}.</b> {stop.next}</span>
      {#if keeps && !stop.disk && doing !== of(stop)}
        <button type="button" class="plain-link cursor-pointer text-sm" onclick={() => begin(stop.freeze ?? 'free')}
          >{stop.freeze ? 'End it…' : 'Free it…'}</button
        >
      {/if}
    </p>
    {#if doing === of(stop)}{@render form(stop.freeze ? 'End the freeze' : 'Free the queue')}{/if}
  </div>
{/each}
{#if keeps && !held}
  {#if doing === 'hold'}
    <div class="mb-4">{@render form('Hold the queue')}</div>
  {:else}
    <p class="mb-4 text-sm">
      <button type="button" class="plain-link cursor-pointer" onclick={() => begin('hold')}>Hold the queue…</button>
    </p>
  {/if}
{/if}
