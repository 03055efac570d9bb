<script lang="ts">
  // A line of code, coloured where its language is known; what is not seen in it is made seen.
  import { escaped, shown } from '../lib/visible';
  let { text, html }: { text: string; html?: string } = $props();
</script>

<!-- eslint-disable-next-line svelte/no-at-html-tags -- escaped here, or by the library that coloured it -->
<span class="pr-3 whitespace-pre">{@html shown(html ?? escaped(text))}</span>
