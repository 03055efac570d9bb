<script lang="ts">
  // A name or a line that somebody else chose: what is not seen in it is made seen.
  import { escaped, shown } from '../lib/visible';
  let { text }: { text: string } = $props();
</script>

<!-- eslint-disable-next-line svelte/no-at-html-tags -- escaped here -->
<span>{@html shown(escaped(text))}</span>
