<script lang="ts">
  // How far something is: a trough in which water rises, from the left.
  let { share, says, wide = false }: { share: number; says: string; wide?: boolean } = $props();
</script>

<div
  role="progressbar"
  aria-label={says}
  aria-valuenow={Math.round(100 * share)}
  aria-valuemin="0"
  aria-valuemax="100"
  class={['h-2 overflow-hidden rounded-b border border-t-0 border-teal', wide ? 'w-full' : 'w-24']}
>
  <div class="h-full bg-(--water)" style={`width: ${100 * Math.min(1, Math.max(0, share))}%`}></div>
</div>
