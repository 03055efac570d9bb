<script lang="ts">
  // A state by its shape: a filled circle with a tick, a square with a bar, a ring that fills, a diamond, a short dash.
  let { state, advisory = false, size = 18 }: { state: string; advisory?: boolean; size?: number } = $props();
  const shapes: Record<string, string> = {
    met: 'met',
    passed: 'met',
    landed: 'met',
    missing: 'missing',
    failed: 'missing',
    errored: 'missing',
    ejected: 'missing',
    pending: 'pending',
    waiting: 'pending',
    running: 'pending',
    rehearsing: 'pending',
    queued: 'pending',
    landing: 'pending',
    waived: 'waived',
    blocked: 'missing',
    fragile: 'pending',
    freed: 'met',
    different: 'waived',
  };
  const shape = $derived(shapes[state] ?? 'none');
  const half = $derived(state === 'running' || state === 'rehearsing' || state === 'landing');
</script>

<svg viewBox="0 0 20 20" width={size} height={size} class="inline-block shrink-0 align-[-0.2em]" aria-hidden="true">
  <g transform={advisory ? 'translate(3.4 3.4) scale(0.66)' : undefined}>
    {#if shape === 'met'}
      <circle cx="10" cy="10" r="8.5" fill="var(--teal)" />
      <path d="M5.8 10.4l2.9 2.9 5.6-6.2" fill="none" stroke="var(--sheet)" stroke-width="2" stroke-linecap="round" />
    {:else if shape === 'missing'}
      <rect x="2.5" y="2.5" width="15" height="15" rx="2" fill="none" stroke="var(--rust)" stroke-width="2" />
      <path d="M6 10h8" stroke="var(--rust)" stroke-width="2.4" stroke-linecap="round" />
    {:else if shape === 'pending'}
      <circle cx="10" cy="10" r="7.8" fill="none" stroke="var(--ochre)" stroke-width="2.2" />
      {#if half}<path d="M10 2.2a7.8 7.8 0 0 1 0 15.6z" fill="var(--ochre)" />{/if}
    {:else if shape === 'waived'}
      <path d="M10 1.8L18.2 10 10 18.2 1.8 10z" fill="none" stroke="var(--ochre)" stroke-width="2" />
    {:else}
      <path d="M4 10h12" stroke="var(--soft)" stroke-width="2.2" stroke-linecap="round" />
    {/if}
  </g>
  {#if advisory}
    <circle cx="10" cy="10" r="9.2" fill="none" stroke="var(--soft)" stroke-width="1.3" stroke-dasharray="3 2.2" />
  {/if}
</svg>
