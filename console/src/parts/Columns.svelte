<script lang="ts" module>
  /** One column: its parts stand on one another. */
  export type Column = { from: string; words: string; parts: number[] };
</script>

<script lang="ts">
  // Numbers over time, as columns; what each says is in its title, and in the table beside them.
  let {
    columns,
    says,
    scale,
    legend,
  }: {
    columns: Column[];
    /** what is to be seen, in words */
    says: string;
    /** writes the highest value */
    scale: (n: number) => string;
    /** of each part, from below: its name */
    legend: string[];
  } = $props();
  const fills = ['bg-teal', 'bg-rust striped', 'bg-ochre'];
  const top = $derived(Math.max(...columns.map((c) => c.parts.reduce((a, b) => a + b, 0)), 0) || 1);
</script>

<figure>
  <div class="flex items-end gap-2">
    <span class="w-14 shrink-0 self-start text-right text-xs text-soft">{scale(top)}</span>
    <div role="img" aria-label={says} class="flex h-28 min-w-0 grow items-end gap-px border-b border-l border-rule">
      {#each columns as c (c.from)}
        <div class="flex h-full max-w-10 min-w-0 grow flex-col justify-end" title={c.words}>
          {#each c.parts.toReversed() as n, i (i)}
            <div class={fills[c.parts.length - 1 - i]} style={`height: ${(100 * n) / top}%`}></div>
          {/each}
        </div>
      {/each}
    </div>
  </div>
  <figcaption class="mt-1 ml-16 text-xs text-soft">
    <span class="flex justify-between gap-x-4">
      <span>{columns[0]?.from}</span>
      <span>{columns.length > 1 ? columns.at(-1)?.from : ''}</span>
    </span>
    <span class="mt-1 flex flex-wrap gap-x-3">
      {#each legend as name, i (name)}{#if name}<span
            ><span class={`inline-block size-2.5 ${fills[i]}`}></span> {name}</span
          >{/if}{/each}
    </span>
  </figcaption>
</figure>
