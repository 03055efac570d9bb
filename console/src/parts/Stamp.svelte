<script lang="ts">
  // A state in words beside its shape.
  import Mark, { isState } from './Mark.svelte';
  let { state, empty = 'none reported' }: { state: string; empty?: string } = $props();
</script>

<span class="whitespace-nowrap"><Mark state={isState(state) ? state : 'none'} /> {state || empty}</span>
