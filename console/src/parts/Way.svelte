<script lang="ts">
  // A change's way to its target: a channel with a sluice for each thing its rules ask for. The first shut sluice is
  // unfolded; any other can be.
  import type { Report } from '../lib/api';
  import { sluices } from '../lib/way';
  import Mark from './Mark.svelte';

  let { report, source, target, landed }: { report: Report; source: string; target: string; landed: boolean } =
    $props();
  const gates = $derived(sluices(report));
  const firstShut = $derived(gates.findIndex((g) => !g.open));
  let chosen = $state<number>();
  const shown = $derived(chosen ?? (firstShut >= 0 ? firstShut : undefined));
</script>

<div class="rounded-lg border border-rule bg-panel p-4">
  <ol class="flex flex-col gap-0 sm:flex-row sm:items-stretch">
    <li class="flex items-center gap-2 pb-2 sm:max-w-56 sm:flex-col sm:items-start sm:pr-3 sm:pb-0">
      <span class="text-xs text-soft">from</span>
      <span class="font-mono text-sm break-all">{source}</span>
    </li>
    {#each gates as gate, i (gate.name)}
      {@const wet = firstShut < 0 || i <= firstShut}
      <li class="relative min-w-0 flex-1">
        <span
          aria-hidden="true"
          class="absolute inset-x-0 top-[2.6rem] hidden h-1 sm:block"
          class:bg-teal={wet}
          class:bg-rule={!wet}
        ></span>
        <button
          type="button"
          class="flex w-full cursor-pointer items-center gap-3 rounded px-2 py-1 text-left hover:bg-sheet sm:flex-col sm:gap-1 sm:text-center"
          aria-expanded={shown === i}
          aria-controls="sluice"
          onclick={() => (chosen = i)}
        >
          <svg viewBox="0 0 64 44" class="relative h-11 w-16 shrink-0" aria-hidden="true">
            <path d="M19 4v36M45 4v36" stroke="var(--soft)" stroke-width="3" stroke-linecap="round" />
            {#if gate.open}
              <rect x="21" y="3" width="22" height="10" fill="var(--teal)" />
            {:else}
              <rect x="21" y="15" width="22" height="25" fill="var(--ochre)" />
              <path d="M32 15V5" stroke="var(--soft)" stroke-width="3" />
            {/if}
          </svg>
          <span class:font-semibold={shown === i} class:underline={shown === i}>{gate.name}</span>
          <span class="text-sm text-soft">
            {gate.open ? 'open' : 'shut'}, {gate.held} of {gate.asked}
          </span>
        </button>
      </li>
    {/each}
    <li class="flex items-center gap-2 pt-2 sm:max-w-44 sm:flex-col sm:items-end sm:pt-0 sm:pl-3">
      <span class="text-xs text-soft">{landed ? 'landed on' : 'to'}</span>
      <span class="font-mono text-sm break-all">{target}</span>
    </li>
  </ol>
  <div id="sluice" class="mt-3">
    {#if shown !== undefined && gates[shown]}
      <ul class="divide-y divide-rule border-t border-rule">
        {#each gates[shown].requirements as r (r.key)}
          <li class="grid grid-cols-[1.5rem_1fr] gap-2 py-2">
            <Mark state={r.state} advisory={r.level === 'advisory'} />
            <div>
              <p>
                <span class="font-medium">{r.title}</span>
                <span class="text-soft">
                  · {r.state.replace('-', ' ')}{r.need > 1 ? `, ${r.have} of ${r.need}` : ''}{r.level === 'advisory'
                    ? ', advisory'
                    : ''}
                </span>
              </p>
              {#if r.next}<p class="mt-0.5 break-words">{r.next}</p>{/if}
              <p class="mt-0.5 text-sm text-soft">asked by {r.because}</p>
            </div>
          </li>
        {/each}
      </ul>
    {:else if !landed}
      <p class="border-t border-rule pt-3">Every sluice is open.</p>
    {/if}
  </div>
</div>
