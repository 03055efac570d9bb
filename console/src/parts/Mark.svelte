<script lang="ts" module>
  // A state by its shape. What is under way is a trough in which water rises; what is missing, an empty one with a bar; what
  // is met, a full one with a tick; what is waived, a diamond; what is not asked, a short dash.
  import type { Advice, Check, Delivery, Entry, QueueRehearsal, Requirement, RulesTrial } from '../lib/api';

  type Shape = 'full' | 'empty' | 'rising' | 'diamond' | 'dash';
  /** Every word of the service for how something stands, and a few of the console's own. */
  export type State =
    | Requirement['state']
    | Check['state']
    | Entry['state']
    | QueueRehearsal['state']
    | Delivery['state']
    | Advice['severity']
    | RulesTrial['changes'][number]['outcome']
    | 'none';

  const shapes: Record<State, Shape> = {
    met: 'full',
    passed: 'full',
    landed: 'full',
    freed: 'full',
    delivered: 'full',
    missing: 'empty',
    failed: 'empty',
    errored: 'empty',
    ejected: 'empty',
    blocked: 'empty',
    parked: 'empty',
    red: 'empty',
    building: 'rising',
    rebuilding: 'rising',
    pending: 'rising',
    waiting: 'rising',
    queued: 'rising',
    running: 'rising',
    rehearsing: 'rising',
    landing: 'rising',
    fragile: 'rising',
    waived: 'diamond',
    different: 'diamond',
    'not-asked': 'dash',
    skipped: 'dash',
    cancelled: 'dash',
    withdrawn: 'dash',
    unchanged: 'dash',
    dropped: 'dash',
    note: 'dash',
    none: 'dash',
  };
  /** How high the water stands in the trough, of 10. */
  const levels: Partial<Record<State, number>> = { building: 2, running: 6, rehearsing: 6, rebuilding: 8, landing: 8 };

  export const isState = (word: string): word is State => word in shapes;
</script>

<script lang="ts">
  let { state, advisory = false, size = 18 }: { state: State; advisory?: boolean; size?: number } = $props();
  const shape = $derived(shapes[state]);
  const level = $derived(levels[state] ?? 3);
  const trough = 'M3 4v9.5a3.5 3.5 0 0 0 3.5 3.5h7a3.5 3.5 0 0 0 3.5-3.5V4';
</script>

<svg viewBox="0 0 20 20" width={size} height={size} class="inline-block shrink-0 align-[-0.2em]" aria-hidden="true">
  <g transform={advisory ? 'translate(3.4 3.4) scale(0.66)' : undefined}>
    {#if shape === 'full'}
      <path d={`${trough}z`} fill="var(--teal)" />
      <path d={trough} fill="none" stroke="var(--teal)" stroke-width="1.8" stroke-linecap="round" />
      <path d="M6.2 9.8l2.7 2.7 5-5.4" fill="none" stroke="var(--sheet)" stroke-width="2" stroke-linecap="round" />
    {:else if shape === 'empty'}
      <path d={trough} fill="none" stroke="var(--rust)" stroke-width="1.8" stroke-linecap="round" />
      <path d="M6.8 9.4h6.4" stroke="var(--rust)" stroke-width="2.4" stroke-linecap="round" />
    {:else if shape === 'rising'}
      <clipPath id={`water-${level}`}><rect x="0" y={16 - level} width="20" height="10" /></clipPath>
      <path d={`${trough}z`} fill="var(--ochre)" clip-path={`url(#water-${level})`} />
      <path d={trough} fill="none" stroke="var(--ochre)" stroke-width="1.8" stroke-linecap="round" />
    {:else if shape === 'diamond'}
      <path d="M10 1.8L18.2 10 10 18.2 1.8 10z" fill="none" stroke="var(--ochre)" stroke-width="2" />
    {:else}
      <path d="M6 10h8" stroke="var(--soft)" stroke-width="2.2" stroke-linecap="round" />
    {/if}
  </g>
  {#if advisory}
    <circle cx="10" cy="10" r="9.2" fill="none" stroke="var(--soft)" stroke-width="1.3" stroke-dasharray="3 2.2" />
  {/if}
</svg>
