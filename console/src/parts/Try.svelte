<script lang="ts">
  // One delivery: what was sent, and what was answered at every try.
  import { Button } from 'flowbite-svelte';
  import Stamp from './Stamp.svelte';
  import When from './When.svelte';
  import type { Delivery } from '../lib/api';
  let { delivery, close }: { delivery: Delivery; close: () => void } = $props();
  const headers = (h: Record<string, string> | undefined) =>
    Object.entries(h ?? {})
      .map(([k, v]) => `${k}: ${v}`)
      .join('\n');
  const shown = $derived.by(() => {
    try {
      return JSON.stringify(JSON.parse(delivery.payload ?? ''), null, 2);
    } catch {
      return delivery.payload;
    }
  });
</script>

<div class="mb-4 rounded-lg border border-rule bg-sheet p-3 text-sm" role="status">
  <p class="flex flex-wrap items-baseline gap-x-3">
    <b>{delivery.kind}</b>
    <Stamp state={delivery.state} />
    <span class="font-mono text-xs break-all text-soft">{delivery.message}</span>
    <span class="grow"></span>
    <Button size="xs" color="alternative" onclick={close}>Close</Button>
  </p>
  {#each delivery.tries ?? [] as t (t.number)}
    <h3 class="mt-2 font-medium">
      Try {t.number}: {t.status ? `answered ${t.status}` : 'no answer'} after {t.milliseconds} ms, <When time={t.at} />
    </h3>
    {#if t.error}<p class="text-rust">{t.error}</p>{/if}
    <div class="grid gap-3 lg:grid-cols-2">
      <pre class="overflow-x-auto font-mono text-xs">POST {t.url}
{headers(t.request)}</pre>
      <pre class="overflow-x-auto font-mono text-xs">{headers(t.response)}{t.answer ? `\n\n${t.answer}` : ''}</pre>
    </div>
  {/each}
  {#if shown}
    <details class="mt-2">
      <summary class="cursor-pointer text-soft">what was sent</summary>
      <pre class="mt-1 max-h-72 overflow-auto font-mono text-xs">{shown}</pre>
    </details>
  {/if}
</div>
