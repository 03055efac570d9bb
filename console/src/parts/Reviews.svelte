<script lang="ts">
  // What reviewers said, oldest first, and what each word does to the gate.
  import type { Report, Review } from '../lib/api';
  import Mark from './Mark.svelte';
  import When from './When.svelte';
  import Words from './Words.svelte';
  let { reviews, report }: { reviews: Review[]; report?: Report } = $props();
  const verbs = { approve: 'approved', object: 'objected to', comment: 'commented on' };
  const weight = (r: Review) =>
    r.standing && r.verdict !== 'comment'
      ? report?.reviews.find((w) => w.by === r.by && w.verdict === r.verdict)
      : undefined;
  const state = (r: Review) => {
    const w = weight(r);
    if (r.verdict === 'comment' || !w) return 'none';
    return r.verdict === 'object' ? 'missing' : w.for.length > 0 ? 'met' : 'pending';
  };
</script>

<ol class="divide-y divide-rule">
  {#each reviews as r (r.id)}
    {@const w = weight(r)}
    <li class="py-2" class:opacity-70={r.withdrawn}>
      <p class="text-sm">
        <Mark state={state(r)} />
        <span class="font-medium">{r.by}</span>
        {verbs[r.verdict]} revision {r.revision}{r.withdrawn ? ', and took it back' : ''}
        · <span class="text-soft"><When time={r.created_at} /></span>
      </p>
      {#if r.html}<div class="mt-1 ml-6"><Words html={r.html} /></div>{/if}
      {#if (r.altered ?? []).length > 0}
        <p class="ml-6 text-sm text-ochre">Altered since: {r.altered!.join('; ')}</p>
      {/if}
      {#if w}
        <p class="ml-6 text-sm text-soft">
          {#if w.for.length > 0}{r.verdict === 'approve'
              ? `counts for: ${w.for.join('; ')}`
              : 'blocks the change until it is withdrawn'}{/if}
          {#if (w.since ?? []).length > 0}<span class="block text-ochre">{w.since!.join('; ')}</span>{/if}
          {#if w.not.length > 0}<span class="block">{w.not.join('; ')}</span>{/if}
        </p>
      {/if}
    </li>
  {:else}
    <li class="text-soft">Nobody has reviewed it yet.</li>
  {/each}
</ol>
