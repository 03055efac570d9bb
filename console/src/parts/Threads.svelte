<script lang="ts">
  // The discussions of a change: what each is about, what was said and suggested, and whether it is resolved.
  import { Button, Input, Label } from 'flowbite-svelte';
  import { answer, api, type InChange, type Thread } from '../lib/api';
  import { session } from '../lib/session.svelte';
  import { short } from '../lib/words';
  import Code from './Code.svelte';
  import Mark from './Mark.svelte';
  import When from './When.svelte';
  import Words from './Words.svelte';
  import Write from './Write.svelte';

  let {
    threads,
    at,
    alive,
    author,
    act,
  }: {
    threads: Thread[];
    at: InChange;
    alive: boolean;
    /** whether suggestions may be applied by who looks at this */
    author: boolean;
    act: (done: string, f: () => Promise<unknown>) => Promise<boolean>;
  } = $props();
  let chosen = $state<number>();
  let text = $state('');
  let outcome = $state('');
  let resolvedToo = $state(false);
  const resolved = $derived(threads.filter((t) => t.resolved).length);
  const visible = $derived(threads.filter((t) => resolvedToo || !t.resolved || t.id === chosen));
  const standing = (t: Thread) => (t.resolved ? 'met' : t.needs_answer ? 'missing' : 'none');
  const word = (t: Thread) =>
    t.resolved
      ? `resolved by ${t.resolved_by}${t.outcome ? `: ${t.outcome}` : ''}`
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
    if (
      await act('Your reply is on record.', () =>
        answer(
          api.POST('/repositories/{house}/{name}/changes/{number}/threads/{thread}/comments', {
            params: { path: { ...at, thread: t.id } },
            body: { text },
          }),
        ),
      )
    )
      text = '';
  }
  async function resolve(t: Thread) {
    const went = await act(t.resolved ? 'The discussion is open again.' : 'The discussion is resolved.', () =>
      answer(
        api.PUT('/repositories/{house}/{name}/changes/{number}/threads/{thread}/resolved', {
          params: { path: { ...at, thread: t.id } },
          body: { resolved: !t.resolved, ...(outcome && !t.resolved ? { text: outcome } : {}) },
        }),
      ),
    );
    if (went) outcome = '';
  }
  // One's own comment may be altered; what it said before stays to be seen.
  let altering = $state<number>();
  let altered = $state('');
  const alter = (t: Thread) =>
    act('It is saved.', async () => {
      await answer(
        api.PUT('/repositories/{house}/{name}/changes/{number}/threads/{thread}/comments/{comment}', {
          params: { path: { ...at, thread: t.id, comment: altering! } },
          body: { text: altered },
        }),
      );
      altering = undefined;
    });
  const take = (comment: number) =>
    act('It is applied, as a commit of yours on the source branch.', () =>
      answer(
        api.POST('/repositories/{house}/{name}/changes/{number}/apply', {
          params: { path: at },
          body: { comments: [comment] },
        }),
      ),
    );
</script>

{#if resolved > 0}
  <p class="mt-3 text-sm">
    <button type="button" class="plain-link cursor-pointer" onclick={() => (resolvedToo = !resolvedToo)}
      >{resolvedToo ? 'Hide' : 'Show'} {resolved} resolved {resolved === 1 ? 'discussion' : 'discussions'}</button
    >
  </p>
{/if}
<ol class="divide-y divide-rule">
  {#each visible as t (t.id)}
    <li class="scroll-mt-4 py-3" id={`thread-${t.id}`}>
      <p class="flex flex-wrap items-baseline gap-x-2 text-sm">
        <Mark state={standing(t)} />
        <span class="font-medium break-all">{t.where}</span>
        <span class="text-soft">revision {t.revision}{place(t) ? `, ${place(t)}` : ''}</span>
        <span class="text-soft">· {word(t)}</span>
      </p>
      {#if t.quoted}<pre
          class="mt-1 ml-6 overflow-x-auto border-l-2 border-rule pl-2 font-mono text-[13px] leading-5 text-soft"><Code
            text={t.quoted}
          /></pre>{/if}
      <ul class="mt-1 ml-6">
        {#each t.comments as r (r.id)}
          <li class="py-1">
            <span class="text-sm"
              ><span class="font-medium">{r.by}</span>
              <span class="text-soft"><When time={r.created_at} />{r.edited_at ? ', altered' : ''}</span></span
            >
            {#if altering === r.id}
              <div class="flex max-w-prose flex-col gap-2">
                <Write id={`alter-${r.id}`} label="New text" bind:value={altered} rows={2} />
                <div class="flex gap-2">
                  <Button size="xs" disabled={!altered.trim()} onclick={() => alter(t)}>Save</Button>
                  <Button size="xs" color="alternative" onclick={() => (altering = undefined)}>Cancel</Button>
                </div>
              </div>
            {:else}
              <Words html={r.html} />
              {#if alive && r.by === session.me?.login}<button
                  type="button"
                  class="plain-link cursor-pointer text-sm"
                  onclick={() => ([altering, altered] = [r.id, r.text])}>Edit comment</button
                >{/if}
            {/if}
            {#if r.suggestion !== undefined}
              <div class="mt-1 max-w-prose rounded border border-rule">
                <p class="border-b border-rule px-2 py-1 text-sm text-soft">
                  {r.suggestion === '' ? 'suggests to take the lines out' : 'suggests instead'}
                </p>
                {#if r.suggestion}<pre class="overflow-x-auto bg-added px-2 font-mono text-[13px] leading-5"><Code
                      text={r.suggestion}
                    /></pre>{/if}
                <p class="px-2 py-1 text-sm">
                  {#if r.applied_as}<Mark state="met" size={14} /> applied by {r.applied_by} as {short(r.applied_as)}
                  {:else if t.gone}<span class="text-soft">the lines have changed since</span>
                  {:else if alive && author}<Button size="xs" color="alternative" onclick={() => take(r.id)}
                      >Apply</Button
                    >
                  {:else}<span class="text-soft">for an author to apply</span>{/if}
                </p>
              </div>
            {/if}
            {#each r.earlier ?? [] as e, i (i)}<p class="max-w-prose text-sm whitespace-pre-wrap text-soft">
                before: {e.text}
              </p>{/each}
          </li>
        {/each}
      </ul>
      {#if alive && chosen === t.id}
        <div class="mt-2 ml-6 flex max-w-prose flex-col gap-2">
          <Write id={`reply-${t.id}`} label="Your reply" bind:value={text} rows={2} />
          {#if !t.resolved}
            <Label for={`outcome-${t.id}`} class="text-ink">What was decided, or the ticket that continues it</Label>
            <Input id={`outcome-${t.id}`} size="sm" bind:value={outcome} />
          {/if}
          <div class="flex flex-wrap gap-2">
            <Button size="sm" onclick={() => reply(t)} disabled={!text.trim()}>Reply</Button>
            <Button size="sm" color="alternative" onclick={() => resolve(t)}
              >{t.resolved ? 'Reopen the discussion' : 'Resolve'}</Button
            >
          </div>
        </div>
      {:else if alive}
        <button
          type="button"
          class="plain-link mt-1 ml-6 cursor-pointer text-sm"
          onclick={() => ((chosen = t.id), (text = ''))}>Reply or resolve</button
        >
      {/if}
    </li>
  {/each}
</ol>
