<script lang="ts">
  // The command that does what the page does.
  let { command }: { command: string } = $props();
</script>

<details class="mt-10 border-t border-rule pt-3 text-sm text-soft">
  <summary class="cursor-pointer">The same from the command line</summary>
  <pre class="mt-2 overflow-x-auto rounded bg-panel p-3 font-mono text-ink" tabindex="-1">{command}</pre>
</details>
