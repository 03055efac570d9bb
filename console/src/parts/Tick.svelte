<script lang="ts">
  // A box to tick, with its words.
  import type { Snippet } from 'svelte';
  let {
    checked = $bindable(false),
    onchange,
    label,
    children,
  }: { checked?: boolean; onchange?: () => void; label?: string; children?: Snippet } = $props();
</script>

<label class="flex items-center gap-2">
  <input
    type="checkbox"
    class="h-4 w-4 rounded border-soft bg-sheet text-primary-600 focus:ring-primary-500"
    aria-label={label}
    bind:checked
    {onchange}
  />
  {@render children?.()}
</label>
