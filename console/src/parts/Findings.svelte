<script lang="ts">
  // What is wrong with a document, worst first told apart by shape and word; a click shows the line.
  import Mark, { type State } from './Mark.svelte';
  import type { Advice, RulesTrial } from '../lib/api';
  let {
    findings = [],
    advice = [],
    show,
  }: { findings?: RulesTrial['findings']; advice?: Advice[]; show?: (line: number) => void } = $props();
  const order: State[] = ['failed', 'blocked', 'fragile', 'note'];
  const items = $derived(
    [
      ...findings.map((f) => ({
        state: 'failed' as State,
        word: 'cannot be read',
        line: f.line,
        text: f.message,
        edit: f.right,
      })),
      ...advice.map((a) => ({
        state: a.severity as State,
        word: a.severity as string,
        line: a.line,
        text: a.text,
        edit: a.edit,
      })),
    ].sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state) || a.line - b.line),
  );
</script>

<ul class="divide-y divide-rule text-sm">
  {#each items as f, i (i)}
    <li class="grid grid-cols-[auto_1fr] gap-x-2 py-1.5">
      <Mark state={f.state} size={16} />
      <div class="min-w-0 break-words">
        <button
          type="button"
          class="cursor-pointer text-left font-medium hover:underline"
          onclick={() => show?.(f.line)}>{f.word}, line {f.line}</button
        >: {f.text}{#if f.edit}<span class="block text-soft">{f.edit}</span>{/if}
      </div>
    </li>
  {/each}
</ul>
