<script lang="ts">
  // A change's way to its target: a channel with a sluice for each group of what its rules ask for, open or shut, and below it
  // what is missing, with who can act and a button for whoever can. What holds and what is not asked is folded.
  import { Button } from 'flowbite-svelte';
  import type { Report, Requirement, Step } from '../lib/api';
  import { session } from '../lib/session.svelte';
  import { few, isFor, steps } from '../lib/steps';
  import { holds, lacking, sluices, sources } from '../lib/way';
  import { count } from '../lib/words';
  import Mark from './Mark.svelte';

  let {
    report,
    source,
    target,
    landed,
    number,
    take,
  }: {
    report: Report;
    source: string;
    target: string;
    landed: boolean;
    /** Number of the change; absent: it has none yet. */
    number?: number;
    /** Takes a step; where nothing can be pressed, it is absent. */
    take?: (step: Step) => unknown;
  } = $props();
  const gates = $derived(sluices(report));
  const firstShut = $derived(gates.findIndex((g) => !g.open));
  /** How high the water stands before the gate of a number: high up to the first shut one, and behind that there is none. */
  const level = (n: number) => (firstShut < 0 ? 14 : n <= firstShut ? 24 : 0);
  let chosen = $state<string>();
  const missing = $derived(lacking(report));
  const group = $derived(gates.find((g) => g.name === chosen));
  const shown = $derived(group ? group.requirements.filter((r) => r.state !== 'not-asked') : missing);
  const held = $derived(report.requirements.filter((r) => holds(r) && r.state !== 'not-asked'));
  const notAsked = $derived(report.requirements.filter((r) => r.state === 'not-asked'));
  const numbered = $derived(sources([...shown, ...held]));
  const me = $derived(session.me?.login ?? '');
  const note = (r: Requirement) => numbered.indexOf(r.because) + 1;
  // To join the queue is offered below, with its strategies.
  const offered = (r: Requirement) =>
    take && !landed
      ? r.steps.filter((s) => s.action !== 'join' && isFor(s, me) && steps[s.action].how.by !== 'git')
      : [];
  /** The words of a step's button, with what it is done to where that is not plain. */
  const words = (s: Step) =>
    [
      steps[s.action].words,
      s.arguments.check,
      s.arguments.change && number && s.arguments.change !== number && `change ${s.arguments.change}`,
    ]
      .filter(Boolean)
      .join(' ');
  const others = (r: Requirement) => r.steps.filter((s) => s.who.length > 0 && !s.who.includes(me));
</script>

{#snippet line(r: Requirement)}
  <li class="grid grid-cols-[1.5rem_1fr] gap-x-2 gap-y-1 py-2 sm:grid-cols-[1.5rem_1fr_auto]">
    <Mark state={r.state} advisory={r.level === 'advisory'} />
    <div class="min-w-0">
      <p class="break-words">
        <span class="font-medium">{r.lacks || r.title}</span>
        <span class="text-soft"
          >· {r.state}{r.need > 1 ? `, ${r.have} of ${r.need}` : ''}{r.level === 'advisory' ? ', advisory' : ''}</span
        >
        <sup class="text-soft">{note(r)}</sup>
      </p>
      {#if r.next}<p class="text-sm break-words text-soft">{r.next}</p>{/if}
      {#if offered(r).length === 0 && !holds(r) && !r.next && others(r).length > 0}
        <p class="text-sm text-soft">{few(others(r)[0]!.who)}</p>
      {/if}
    </div>
    {#if offered(r).length > 0}
      <p class="col-start-2 flex flex-wrap items-center gap-2 sm:col-start-3">
        {#each offered(r) as s, i (i)}
          <Button size="xs" color="alternative" onclick={() => take?.(s)}>{words(s)}</Button>
        {/each}
      </p>
    {/if}
  </li>
{/snippet}

<div class="rounded-lg border border-rule bg-panel p-4">
  <ol class="flex flex-col gap-0 sm:flex-row sm:items-stretch">
    <li class="flex items-center gap-2 pb-2 sm:max-w-56 sm:flex-col sm:items-start sm:pr-3 sm:pb-0">
      <span class="text-xs text-soft">from</span>
      <span class="font-mono text-sm break-all">{source}</span>
    </li>
    {#each gates as gate, i (gate.name)}
      <li class="relative min-w-0 flex-1">
        <button
          type="button"
          class="flex w-full cursor-pointer items-center gap-3 rounded py-1 text-left hover:bg-sheet sm:flex-col sm:gap-1 sm:text-center"
          aria-expanded={chosen === gate.name}
          aria-controls="sluice"
          onclick={() => (chosen = chosen === gate.name ? undefined : gate.name)}
        >
          <svg
            viewBox="0 0 64 44"
            preserveAspectRatio="none"
            class="relative h-11 w-16 shrink-0 sm:w-full"
            aria-hidden="true"
          >
            <!-- From a gate to the next the water stands at one height. -->
            <rect
              x="-1"
              y={40 - level(i)}
              width="33"
              shape-rendering="crispEdges"
              height={level(i)}
              fill="var(--water)"
            />
            <rect
              x="32"
              y={40 - level(i + 1)}
              width="33"
              shape-rendering="crispEdges"
              height={level(i + 1)}
              fill="var(--water)"
            />
            <path d="M0 41h64" stroke="var(--soft)" stroke-width="1.6" />
            <path d="M28 4v37M36 4v37" stroke="var(--soft)" stroke-width="2" stroke-linecap="round" />
            {#if gate.open}
              <rect x="29" y="4" width="6" height="13" fill="var(--soft)" />
            {:else}
              <rect x="29" y="14" width="6" height="27" fill="var(--rust)" />
              <path d="M32 14V4" stroke="var(--soft)" stroke-width="1.6" />
            {/if}
          </svg>
          <span class:font-semibold={chosen === gate.name} class:underline={chosen === gate.name}>{gate.name}</span>
          <span class="text-sm text-soft">
            {gate.open ? 'open' : 'shut'}, {gate.asked > 0 ? `${gate.held} of ${gate.asked}` : 'advice only'}
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
    {#if shown.length > 0}
      <ul class="divide-y divide-rule border-t border-rule">
        {#each shown as r (r.key)}{@render line(r)}{/each}
      </ul>
    {:else if !landed}
      <p class="border-t border-rule pt-3">Every sluice is open.</p>
    {/if}
    {#if !group && held.length > 0}
      <details class="border-t border-rule py-2 text-sm">
        <summary class="cursor-pointer text-soft"
          >{count(held.length, 'requirement')} {held.length === 1 ? 'holds' : 'hold'}</summary
        >
        <ul class="mt-1">
          {#each held as r (r.key)}
            <li class="flex items-baseline gap-2 py-0.5">
              <Mark state={r.state} advisory={r.level === 'advisory'} size={14} />
              <span class="min-w-0 break-words"
                >{r.title}{r.next ? `: ${r.next}` : ''} <sup class="text-soft">{note(r)}</sup></span
              >
            </li>
          {/each}
        </ul>
      </details>
    {/if}
    {#if notAsked.length > 0}
      <details class="border-t border-rule py-2 text-sm">
        <summary class="cursor-pointer text-soft"
          >{notAsked.length} more {notAsked.length === 1 ? 'is' : 'are'} not asked of this change</summary
        >
        <ul class="mt-1">
          {#each notAsked as r (r.key)}
            <li class="flex items-baseline gap-2 py-0.5">
              <Mark state="not-asked" size={14} /><span class="min-w-0 break-words">{r.title}: {r.next}</span>
            </li>
          {/each}
        </ul>
      </details>
    {/if}
    {#if numbered.length > 0}
      <ol class="border-t border-rule pt-2 text-xs text-soft sm:columns-2">
        {#each numbered as text, i (text)}<li><sup>{i + 1}</sup> {text}</li>{/each}
      </ol>
    {/if}
  </div>
</div>
