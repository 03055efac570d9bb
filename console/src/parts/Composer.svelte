<script lang="ts">
  // Speaks of lines that were chosen in the difference: it stays in view while one reads on.
  import { Button, Textarea } from 'flowbite-svelte';
  import type { Chosen } from '../lib/difference.svelte';
  import { short } from '../lib/words';
  import Tick from './Tick.svelte';
  import Write from './Write.svelte';
  let {
    chosen,
    send,
    cancel,
  }: {
    chosen: Chosen;
    send: (text: string, suggestion: string | undefined, how: 'ask' | 'comment' | 'draft') => Promise<boolean>;
    cancel: () => void;
  } = $props();
  let text = $state('');
  let suggests = $state(false);
  let suggestion = $state('');
  const empty = $derived(!text.trim() && !suggests);
  async function go(how: 'ask' | 'comment' | 'draft') {
    if (!(await send(text, suggests ? suggestion : undefined, how))) return; // what was typed is kept
    text = suggestion = '';
    suggests = false;
  }
</script>

<div class="h-96"></div>
<div
  class="fixed inset-x-0 bottom-0 z-10 border-t border-rule bg-sheet shadow-lg"
  role="region"
  aria-label="Comment on the chosen lines"
>
  <div class="mx-auto flex max-w-6xl flex-col gap-2 px-4 py-3">
    <p class="text-sm">
      <span class="font-mono break-all">{chosen.path}</span>, {chosen.first === 0
        ? 'the whole file'
        : chosen.last > chosen.first
          ? `lines ${chosen.first} to ${chosen.last}`
          : `line ${chosen.first}`}{chosen.before ? ' before the change' : ''}{chosen.commit
        ? `, in commit ${short(chosen.commit)}`
        : ''}
      <span class="text-soft">· with the shift key, another number makes it a range</span>
    </p>
    <Write id="speak" label="Comment" bind:value={text} rows={2} />
    {#if !chosen.before && !chosen.commit && chosen.first > 0}
      <Tick bind:checked={suggests} onchange={() => (suggestion = chosen.text)}>suggest other lines in their place</Tick
      >
      {#if suggests}
        <Textarea
          rows={Math.min(8, chosen.last - chosen.first + 2)}
          class="w-full bg-panel font-mono text-[13px] text-ink dark:bg-panel dark:text-ink"
          aria-label="What the lines should be; nothing means that they should go"
          placeholder="What the lines should be; nothing means that they should go"
          bind:value={suggestion}
        />
      {/if}
    {/if}
    <div class="flex flex-wrap gap-2">
      <Button size="sm" disabled={empty} onclick={() => go('ask')}>Ask</Button>
      <Button size="sm" color="alternative" disabled={empty} onclick={() => go('comment')}>Add comment</Button>
      <Button size="sm" color="alternative" disabled={empty} onclick={() => go('draft')}>Save as draft</Button>
      <Button size="sm" color="alternative" onclick={cancel}>Cancel</Button>
    </div>
  </div>
</div>
