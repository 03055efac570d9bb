<script lang="ts">
  // A short id that can be copied whole.
  import { short } from '../lib/words';
  let { id }: { id: string } = $props();
  let copied = $state(false);
  async function copy() {
    await navigator.clipboard?.writeText(id);
    copied = true;
    setTimeout(() => (copied = false), 1200);
  }
</script>

<button
  type="button"
  class="rounded font-mono text-sm text-soft hover:text-ink"
  title={`${id}: copy`}
  aria-label={`Copy ${id}`}
  onclick={copy}>{copied ? 'copied' : short(id)}</button
>
