<script lang="ts">
  // What was waived, by whom and why, and who has acknowledged it.
  import { Button, Input } from 'flowbite-svelte';
  import { answer, api, repoNamed, type Waiver } from '../lib/api';
  import { session } from '../lib/session.svelte';
  import { exactly, short } from '../lib/words';
  import Mark from './Mark.svelte';
  import When from './When.svelte';
  let {
    waivers,
    repo,
    act,
  }: {
    waivers: Waiver[];
    repo: string;
    act: (done: string, f: () => Promise<unknown>) => Promise<unknown>;
  } = $props();
  let text = $state('');
  let at = $state<number>();
  async function look(o: Waiver) {
    await act('Your acknowledgement is on record.', () =>
      answer(
        api.POST('/repositories/{house}/{name}/waivers/{waiver}/acknowledge', {
          params: { path: { ...repoNamed(repo), waiver: o.id } },
          body: { text },
        }),
      ),
    );
    text = '';
    at = undefined;
  }
</script>

<ul class="divide-y divide-rule">
  {#each waivers as o (o.id)}
    <li class="py-2 text-sm">
      <p>
        <Mark state="waived" />
        <span class="font-medium">{o.by}</span> waived for
        {#if o.number}<a class="plain-link" href={`/${repo}/changes/${o.number}`}>change {o.number}</a>, revision {o.revision}{:else}one
          push of {short(o.commit ?? '')}{/if}
        onto <span class="font-mono">{o.branch}</span> · <span class="text-soft"><When time={o.made_at} /></span>
      </p>
      <ul class="ml-6">
        {#each o.waives as r (r.key)}<li>{r.title}</li>{/each}
      </ul>
      <p class="ml-6 break-words">Reason: {o.reason}</p>
      <p class="ml-6 text-soft">
        {#if o.state === 'open'}may be used until {exactly(o.until)}
        {:else if o.state === 'lapsed'}lapsed unused: {o.why}
        {:else if o.acknowledged_by}let {short(o.used_as ?? '')} through; {o.acknowledged_by} acknowledged it: {o.acknowledgement}
        {:else}<Mark state="missing" size={14} /> let {short(o.used_as ?? '')} through; not acknowledged yet{/if}
      </p>
      {#if o.state === 'used' && !o.acknowledged_by && session.me && session.me.login !== o.by}
        {#if at === o.id}
          <div class="mt-1 ml-6 flex max-w-prose gap-2">
            <Input size="sm" bind:value={text} aria-label="What you found" placeholder="what you found" />
            <Button size="xs" disabled={!text.trim()} onclick={() => look(o)}>Acknowledge</Button>
          </div>
        {:else}
          <button type="button" class="plain-link ml-6 cursor-pointer" onclick={() => (at = o.id)}>Acknowledge</button>
        {/if}
      {/if}
    </li>
  {:else}
    <li class="text-sm text-soft">Nothing was waived.</li>
  {/each}
</ul>
