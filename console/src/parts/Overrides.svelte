<script lang="ts">
  // What was set aside, by whom and why, and who has looked at it since.
  import { Button, Input } from 'flowbite-svelte';
  import { post, type Override } from '../lib/api';
  import { session } from '../lib/session.svelte';
  import { exactly, short } from '../lib/words';
  import Mark from './Mark.svelte';
  import When from './When.svelte';
  let {
    overrides,
    repo,
    act,
  }: {
    overrides: Override[];
    repo: string;
    act: (done: string, f: () => Promise<unknown>) => Promise<unknown>;
  } = $props();
  let text = $state('');
  let at = $state<number>();
  async function look(o: Override) {
    await act('Your look is on record.', () => post(`/repositories/${repo}/overrides/${o.id}/look`, { text }));
    text = '';
    at = undefined;
  }
</script>

<ul class="divide-y divide-rule">
  {#each overrides as o (o.id)}
    <li class="py-2 text-sm">
      <p>
        <Mark state="overridden" />
        <span class="font-medium">{o.by}</span> set aside for
        {#if o.number}<a class="plain-link" href={`/${repo}/changes/${o.number}`}>change {o.number}</a>, revision {o.revision}{:else}one
          push of {short(o.commit ?? '')}{/if}
        onto <span class="font-mono">{o.branch}</span> · <span class="text-soft"><When time={o.made_at} /></span>
      </p>
      <ul class="ml-6">
        {#each o.aside as r (r.key)}<li>{r.title}</li>{/each}
      </ul>
      <p class="ml-6 break-words">because: {o.because}</p>
      <p class="ml-6 text-soft">
        {#if o.state === 'open'}may be used until {exactly(o.until)}
        {:else if o.state === 'lapsed'}lapsed unused: {o.why}
        {:else if o.looked_by}let {short(o.used_as ?? '')} through; {o.looked_by} looked at it: {o.look}
        {:else}<Mark state="unmet" size={14} /> let {short(o.used_as ?? '')} through; nobody else has looked at it yet{/if}
      </p>
      {#if o.state === 'used' && !o.looked_by && session.me && session.me.login !== o.by}
        {#if at === o.id}
          <div class="mt-1 ml-6 flex max-w-prose gap-2">
            <Input size="sm" bind:value={text} aria-label="What you found" placeholder="what you found" />
            <Button size="xs" disabled={!text.trim()} onclick={() => look(o)}>I have looked at it</Button>
          </div>
        {:else}
          <button type="button" class="plain-link ml-6 cursor-pointer" onclick={() => (at = o.id)}
            >Have the second look</button
          >
        {/if}
      {/if}
    </li>
  {:else}
    <li class="text-sm text-soft">Nothing was set aside.</li>
  {/each}
</ul>
