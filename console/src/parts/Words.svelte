<script lang="ts">
  // A text that the service has laid out; it is safe to show.
  let { html }: { html: string } = $props();
</script>

<!-- eslint-disable-next-line svelte/no-at-html-tags -- laid out and cleaned by the service, which alone does that -->
<div class="words max-w-prose break-words">{@html html}</div>
