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
  class="cursor-pointer rounded font-mono text-sm text-soft hover:text-ink"
  title={`${id}: copy`}
  onclick={copy}>{copied ? 'copied' : short(id)}<span class="sr-only">, copy the whole id</span></button
>
