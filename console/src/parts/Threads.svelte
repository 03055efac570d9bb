<script lang="ts">
  // The discussions of a change: what each is about, what was said, and whether it is settled.
  import { Button, Input, Label, Textarea } from 'flowbite-svelte';
  import { post, put, type Thread } from '../lib/api';
  import Mark from './Mark.svelte';
  import When from './When.svelte';

  let {
    threads,
    path,
    alive,
    act,
  }: {
    threads: Thread[];
    path: string;
    alive: boolean;
    act: (done: string, f: () => Promise<unknown>) => Promise<void>;
  } = $props();
  let chosen = $state<number>();
  let text = $state('');
  let outcome = $state('');
  const standing = (t: Thread) => (t.settled ? 'met' : t.needs_answer ? 'unmet' : 'none');
  const word = (t: Thread) =>
    t.settled
      ? `settled by ${t.settled_by}${t.outcome ? `: ${t.outcome}` : ''}`
      : t.needs_answer
        ? 'open'
        : 'needs no answer';
  const place = (t: Thread) =>
    t.gone
      ? 'gone in the newest revision'
      : t.now && (t.now.first !== t.first_line || t.now.path !== t.path)
        ? `now ${t.now.path}, line ${t.now.first}`
        : '';
  async function reply(t: Thread) {
    await act('Your reply is on record.', () => post(`${path}/threads/${t.id}/remarks`, { text }));
    text = '';
  }
  async function settle(t: Thread) {
    await act(t.settled ? 'The discussion is open again.' : 'The discussion is settled.', () =>
      put(`${path}/threads/${t.id}/settled`, { settled: !t.settled, ...(outcome && !t.settled ? { outcome } : {}) }),
    );
    outcome = '';
  }
</script>

<ol class="divide-y divide-rule">
  {#each threads as t (t.id)}
    <li class="py-3" id={`thread-${t.id}`}>
      <p class="flex flex-wrap items-baseline gap-x-2 text-sm">
        <Mark state={standing(t)} />
        <span class="font-medium break-all">{t.where}</span>
        <span class="text-soft">revision {t.revision}{place(t) ? `, ${place(t)}` : ''}</span>
        <span class="text-soft">· {word(t)}</span>
      </p>
      {#if t.quoted}<pre
          class="mt-1 ml-6 overflow-x-auto border-l-2 border-rule pl-2 font-mono text-[13px] leading-5 text-soft">{t.quoted}</pre>{/if}
      <ul class="mt-1 ml-6">
        {#each t.remarks as r (r.id)}
          <li class="py-1">
            <span class="text-sm"
              ><span class="font-medium">{r.by}</span>
              <span class="text-soft"><When time={r.created_at} />{r.edited_at ? ', altered' : ''}</span></span
            >
            <p class="max-w-prose break-words whitespace-pre-wrap">{r.text}</p>
            {#each r.earlier ?? [] as e, i (i)}<p class="max-w-prose text-sm whitespace-pre-wrap text-soft">
                before: {e.text}
              </p>{/each}
          </li>
        {/each}
      </ul>
      {#if alive && chosen === t.id}
        <div class="mt-2 ml-6 flex max-w-prose flex-col gap-2">
          <Label for={`reply-${t.id}`} class="text-ink">Your reply</Label>
          <Textarea
            id={`reply-${t.id}`}
            rows={2}
            class="w-full bg-sheet text-ink dark:bg-sheet dark:text-ink"
            bind:value={text}
          />
          {#if !t.settled}
            <Label for={`outcome-${t.id}`} class="text-ink">What came of it, when it is settled</Label>
            <Input id={`outcome-${t.id}`} size="sm" bind:value={outcome} />
          {/if}
          <div class="flex flex-wrap gap-2">
            <Button size="sm" onclick={() => reply(t)} disabled={!text.trim()}>Reply</Button>
            <Button size="sm" color="alternative" onclick={() => settle(t)}
              >{t.settled ? 'Open it again' : 'Settle it'}</Button
            >
          </div>
        </div>
      {:else if alive}
        <button
          type="button"
          class="plain-link mt-1 ml-6 cursor-pointer text-sm"
          onclick={() => ((chosen = t.id), (text = ''))}>Answer or settle</button
        >
      {/if}
    </li>
  {/each}
</ol>
