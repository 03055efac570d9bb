<script lang="ts">
  // What is rehearsed at once, and what stands on what: a row for each rehearsal, from the tip that it was begun on to the change
  // that its checks run for.
  import Id from './Id.svelte';
  import Mark from './Mark.svelte';
  import Trough from './Trough.svelte';
  import When from './When.svelte';
  import type { Entry, QueueRehearsal } from '../lib/api';

  let {
    rehearsals,
    entries,
    repo,
    tip,
    usual,
  }: {
    rehearsals: QueueRehearsal[];
    entries: Entry[];
    repo: string;
    tip: string;
    /** how long checks take, in seconds; 0: not known */
    usual: number;
  } = $props();
  let now = $state(Date.now());
  $effect(() => {
    const timer = setInterval(() => (now = Date.now()), 5000);
    return () => clearInterval(timer);
  });
  /** How far the checks of a rehearsal are, by how long they take as a rule. */
  const far = (r: QueueRehearsal) =>
    r.state === 'running' && usual > 0 ? Math.min(1, (now - Date.parse(r.since)) / 1000 / usual) : undefined;
  const title = (n: number) => entries.find((e) => e.number === n)?.title ?? '';
  const words: Record<QueueRehearsal['state'], string> = {
    building: 'is being built',
    running: 'its checks run',
    passed: 'passed',
    red: 'red',
    rebuilding: 'passed, and is built on the tip as it is now',
  };
</script>

<ul class="divide-y divide-rule">
  {#each rehearsals as r (r.number)}
    <li class="flex flex-wrap items-center gap-x-3 gap-y-1 py-2">
      <ol class="flex min-w-0 flex-wrap items-center" aria-label={`Rehearsal ${r.number}: what stands on what`}>
        <li class="border-b-4 border-teal px-2 text-sm" class:opacity-60={r.base !== tip}><Id id={r.base} /></li>
        {#each r.path as n, i (n)}
          <li class="flex items-center">
            <span aria-hidden="true" class="w-3 border-t border-rule"></span>
            <a
              class="border border-rule bg-panel px-2 text-sm hover:underline"
              class:font-semibold={i === r.path.length - 1}
              href={`/${repo}/changes/${n}`}
              title={title(n)}>{n}</a
            >
          </li>
        {/each}
      </ol>
      <p class="min-w-0 grow text-sm break-words">
        <Mark state={r.state} size={14} />
        {words[r.state]}{r.reruns ? `, attempt ${r.reruns + 1}` : ''}<span class="text-soft"
          >, begun <When time={r.since} />{r.why ? `: ${r.why}` : ''}</span
        >
      </p>
      {#if far(r) !== undefined}<Trough
          share={far(r)!}
          says={`How far the checks of rehearsal ${r.number} are, as a rule`}
        />{/if}
      {#if r.commit}<span class="text-sm"><Id id={r.commit} /></span>{/if}
    </li>
  {:else}
    <li class="py-2 text-sm text-soft">Nothing is rehearsed.</li>
  {/each}
</ul>
