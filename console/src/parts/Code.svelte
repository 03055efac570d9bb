<script lang="ts">
  // A line of code, coloured where its language is known.
  let { text, html }: { text: string; html?: string } = $props();
</script>

<span class="pr-3 whitespace-pre">
  {#if html === undefined}{text}{:else}
    <!-- eslint-disable-next-line svelte/no-at-html-tags -- escaped by the library that coloured it -->
    {@html html}{/if}</span
>
