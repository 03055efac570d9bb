<script lang="ts">
  // Where a reviewer says what they think, with the draft comments that go with it.
  import { Button } from 'flowbite-svelte';
  import type { Change } from '../../lib/api';
  import type { ChangePage } from '../../lib/change.svelte';
  import Write from '../Write.svelte';
  let { page, change }: { page: ChangePage; change: Change } = $props();
</script>

{#if (page.drafts.value?.length ?? 0) > 0}
  <div class="mt-4 rounded border border-dashed border-rule p-3 text-sm">
    <p class="mb-1 font-medium">Draft comments; nobody else sees them yet</p>
    <ul class="divide-y divide-rule">
      {#each page.drafts.value ?? [] as draft (draft.id)}
        <li class="flex gap-3 py-1">
          <span class="min-w-0 grow break-words"
            ><span class="font-mono">{draft.where}</span>: {draft.text || 'a suggestion'}</span
          >
          <button type="button" class="plain-link shrink-0 cursor-pointer" onclick={() => page.deleteDraft(draft.id)}
            >Delete</button
          >
        </li>
      {/each}
    </ul>
  </div>
{/if}
<form id="say" class="mt-4 flex scroll-mt-4 flex-col gap-2" onsubmit={(e) => e.preventDefault()}>
  <Write
    id="text"
    label={`Your review of revision ${change.revision}`}
    bind:value={page.text}
    placeholder="An objection or a question needs words; an approval may have some. Choose a line number below to comment on lines."
  />
  {#if page.unread}
    <p class="border-l-4 border-ochre p-2 text-sm">
      Revision {change.revision} came while you were reading revision {page.reading}.
      <Button size="xs" color="alternative" onclick={() => (page.reading = change.revision)}
        >Go on with revision {change.revision}</Button
      >
    </p>
  {/if}
  <div class="flex flex-wrap gap-2">
    <Button size="sm" disabled={page.unread} onclick={() => page.review('approve', 'Your approval is on record.')}
      >Approve</Button
    >
    <Button
      size="sm"
      color="alternative"
      disabled={page.unread}
      onclick={() => page.review('object', 'Your objection is on record.')}>Object</Button
    >
    <Button
      size="sm"
      color="alternative"
      disabled={page.unread}
      onclick={() => page.review('comment', 'Your comment is on record.')}>Comment</Button
    >
    {#if !page.chosen}<Button size="sm" color="alternative" onclick={() => page.speak(page.text, undefined, 'ask')}
        >Ask</Button
      >{/if}
    {#if page.mine}
      <Button size="sm" color="alternative" onclick={page.withdraw}>
        Withdraw my {page.mine.verdict === 'approve' ? 'approval' : 'objection'}
      </Button>
    {/if}
  </div>
</form>
