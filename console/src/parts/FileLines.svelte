<script lang="ts">
  // The lines of one file of a difference, in one column or two; only those from first to last are in the page.
  import type { Said } from '../lib/annotations';
  import type { Pair, PatchLine } from '../lib/patch';
  import Code from './Code.svelte';
  import { lineHeight, type Chosen } from '../lib/difference.svelte';

  let {
    rows,
    html,
    first,
    last,
    path,
    chosen,
    discussed,
    said,
    choose,
  }: {
    rows: (PatchLine | Pair)[];
    html?: Map<PatchLine, string>;
    first: number;
    last: number;
    path: string;
    chosen?: Chosen;
    discussed: (line: number, before: boolean) => number | undefined;
    said: (line: number) => Said[] | undefined;
    choose?: (line: number, before: boolean, extend: boolean) => void;
  } = $props();
  const signs = { added: '+', removed: '−', same: ' ', gap: '' };
  const saidOf = (line: number | undefined): Said[] => (line === undefined ? [] : (said(line) ?? []));
  const isPair = (r: PatchLine | Pair): r is Pair => !('kind' in r);
  // What is chosen stays in view above the place where one writes.
  function showAbove(line: HTMLElement) {
    const { top } = line.getBoundingClientRect();
    if (top > innerHeight / 3) setTimeout(() => scrollBy({ top: top - innerHeight / 4 }));
  }
  const inChosen = (line: number | undefined, before: boolean) =>
    chosen?.path === path &&
    line !== undefined &&
    chosen.before === before &&
    line >= chosen.first &&
    line <= chosen.last;
</script>

{#snippet annotated(line: number | undefined)}
  {#each saidOf(line) as s, n (n)}
    <span class="ml-3 shrink-0 rounded border border-rust px-1 font-sans text-xs leading-4 text-rust" title={s.text}
      >{s.level}: {s.text} ({s.check})</span
    >
  {/each}
{/snippet}

{#snippet number(line: number | undefined, before: boolean, speak: boolean)}
  {@const thread = line === undefined ? undefined : discussed(line, before)}
  <span class="relative w-12 shrink-0 px-1 text-right text-soft select-none">
    {#if thread !== undefined}<a
        class="absolute left-0 text-ochre"
        href={`#thread-${thread}`}
        aria-label={`The discussion of line ${line}`}>◆</a
      >{/if}
    {#if choose && speak && line !== undefined}
      <button
        type="button"
        class="cursor-pointer hover:underline"
        aria-label={`Discuss line ${line}${before ? ' before the change' : ''}`}
        onclick={(e) => {
          choose(line, before, e.shiftKey);
          showAbove(e.currentTarget);
        }}>{line}</button
      >
    {:else}{line ?? ''}{/if}
  </span>
{/snippet}

<div class="min-w-max" style:padding-top={`${first * lineHeight}px`}>
  {#each rows.slice(first, last) as row, i (first + i)}
    {#if isPair(row)}
      {#if row.gap}
        <div class="flex h-5 px-2 text-soft">⋯ {row.gap.text}</div>
      {:else}
        <div class="grid h-5 grid-cols-2">
          <div
            class="flex min-w-0 overflow-hidden border-r border-rule"
            class:bg-removed={row.left?.kind === 'removed'}
            class:chosen={inChosen(row.left?.old, true)}
          >
            {#if row.left}{@render number(row.left.old, true, row.left.kind === 'removed')}<Code
                text={row.left.text}
                html={html?.get(row.left)}
              />{/if}
          </div>
          <div
            class="flex min-w-0 overflow-hidden"
            class:bg-added={row.right?.kind === 'added'}
            class:chosen={inChosen(row.right?.new, false)}
          >
            {#if row.right}{@render number(row.right.new, false, true)}<Code
                text={row.right.text}
                html={html?.get(row.right)}
              />{@render annotated(row.right.new)}{/if}
          </div>
        </div>
      {/if}
    {:else if row.kind === 'gap'}
      <div class="flex h-5 px-2 text-soft">⋯ {row.text}</div>
    {:else}
      <div
        class="flex h-5"
        class:bg-added={row.kind === 'added'}
        class:bg-removed={row.kind === 'removed'}
        class:chosen={row.kind === 'removed' ? inChosen(row.old, true) : inChosen(row.new, false)}
      >
        {@render number(row.old, true, row.kind === 'removed')}
        {@render number(row.new, false, row.kind !== 'removed')}
        <span class="w-4 shrink-0 text-center">{signs[row.kind]}</span>
        <Code text={row.text} html={html?.get(row)} />
        {#if row.kind !== 'removed'}{@render annotated(row.new)}{/if}
      </div>
    {/if}
  {/each}
</div>
