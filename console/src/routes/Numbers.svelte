<script lang="ts">
  // How a queue has done: what landed and what did not, how long it took and where, and what the checks cost.
  import { Input, Label } from 'flowbite-svelte';
  import Columns, { type Column } from '../parts/Columns.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import QueueParts from '../parts/QueueParts.svelte';
  import { answer, api, type TimeNumbers } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { count, kept, lasting } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const branch = $derived(here().query.get('branch') ?? '');
  let days = $state(14);
  const numbers = new Live(
    () =>
      answer(
        api.GET('/repositories/{house}/{name}/queue/numbers', {
          params: {
            path: { house, name },
            query: { branch: branch || undefined, days: Math.min(366, Math.max(1, days || 14)) },
          },
        }),
      ),
    () => ({ repository: repo, kinds: ['change.landed', 'queue.'] }),
  );
  $effect(() => {
    void [branch, days];
    return follow(numbers);
  });
  const n = $derived(numbers.value);
  const hourly = $derived(days <= 2);
  const at = (from: string) => (hourly ? from.slice(5, 16).replace('T', ' ') : from.slice(5, 10));
  // Every day, or hour, of the time that is shown, those in which nothing happened too.
  const times = $derived.by(() => {
    if (!n) return [];
    const step = hourly ? 3600e3 : 86400e3;
    const known = new Map(n.times.map((t) => [Date.parse(t.from), t]));
    const out: TimeNumbers[] = [];
    for (let from = Math.ceil(Date.parse(n.since) / step) * step; from <= Date.parse(n.until); from += step)
      out.push(
        known.get(from) ?? {
          from: new Date(from).toISOString(),
          landed: 0,
          ejected: 0,
          half: 0,
          most: 0,
          check_minutes: 0,
        },
      );
    return out;
  });
  const columns = (words: (t: TimeNumbers) => string, parts: (t: TimeNumbers) => number[]) =>
    times.map((t): Column => ({ from: at(t.from), words: `${at(t.from)}: ${words(t)}`, parts: parts(t) }));
  const landed = $derived(
    columns(
      (t) => `${t.landed} landed, ${t.ejected} ejected`,
      (t) => [t.landed, t.ejected],
    ),
  );
  const took = $derived(
    columns(
      (t) => (t.landed ? `half within ${lasting(t.half)}, nine of ten within ${lasting(t.most)}` : 'nothing landed'),
      (t) => [t.half, 0, t.most - t.half],
    ),
  );
  const checks = $derived(
    columns(
      (t) => `${t.check_minutes.toFixed(1)} minutes`,
      (t) => [t.check_minutes],
    ),
  );
  const says = $derived(
    n &&
      (n.landed + n.ejected + n.withdrawn === 0
        ? `Nothing has left the queue of ${n.branch} in ${count(days, 'day')}.`
        : `${n.landed} landed in ${count(days, 'day')}, half of them within ${lasting(n.stages.at(-1)!.half)} of being ready, nine of ten within ${lasting(n.stages.at(-1)!.most)}; ${n.ejected} were ejected, ${n.withdrawn} withdrawn. Checks ran for ${lasting(60 * n.minutes_each)} for each that landed.`),
  );
</script>

{#snippet under()}<QueueParts {repo} {branch} at="numbers" />{/snippet}

<Page
  title={`Numbers of ${n?.branch ?? 'the queue'}`}
  answer={says}
  problem={numbers.problem}
  {under}
  command={`tavrin queue numbers --days ${days} --repo ${repo}${branch ? ` --branch ${branch}` : ''}`}
>
  <Label class="mb-4 flex items-center gap-2">
    <span class="whitespace-nowrap">Over the last</span>
    <span class="w-24"><Input type="number" min="1" max="366" size="sm" bind:value={days} /></span> days
  </Label>
  {#if n && n.landed + n.ejected + n.withdrawn > 0}
    <div class="grid gap-x-6 lg:grid-cols-3">
      <Panel title="Landed and ejected"
        ><Columns
          columns={landed}
          says={`Landed and ejected by ${hourly ? 'the hour' : 'the day'}`}
          scale={String}
          legend={['landed', 'ejected']}
        /></Panel
      >
      <Panel title="From ready to landed"
        ><Columns
          columns={took}
          says="Within which half and nine of ten landed"
          scale={lasting}
          legend={['half within', '', 'nine of ten within']}
        /></Panel
      >
      <Panel title="Minutes of checks"
        ><Columns
          columns={checks}
          says="Minutes of checks of rehearsals"
          scale={(x) => x.toFixed(x < 10 ? 1 : 0)}
          legend={['minutes']}
        /></Panel
      >
    </div>
    <div class="grid gap-x-6 lg:grid-cols-2">
      <Panel title="Where the time goes" note="of what landed">
        <table class="w-full text-left text-sm">
          <thead
            ><tr class="text-soft"
              ><th class="py-1 font-normal">stage</th><th class="text-right font-normal">half within</th><th
                class="text-right font-normal">nine of ten</th
              ></tr
            ></thead
          >
          <tbody>
            {#each n.stages as s (s.stage)}
              <tr class="border-t border-rule" class:font-semibold={s.stage === 'ready to landed'}>
                <td class="py-1">{s.stage}<span class="block text-xs font-normal text-soft">{s.means}</span></td>
                <td class="text-right align-top">{lasting(s.half)}</td>
                <td class="text-right align-top">{lasting(s.most)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
        {#if kept(n.kept)}<p class="mt-2 text-sm text-soft">{kept(n.kept)}</p>{/if}
      </Panel>
      <Panel title="Ejected, and why" note={count(n.ejected, 'change')}>
        <ul class="text-sm">
          {#each n.ejections as e (e.cause)}
            <li class="flex justify-between border-t border-rule py-1 first:border-0">
              <span>{e.cause}</span><span>{e.count}</span>
            </li>
          {:else}<li class="text-soft">Nothing was ejected.</li>{/each}
        </ul>
      </Panel>
    </div>
    <Panel
      title="Checks on rehearsals"
      note={`${n.check_minutes.toFixed(1)} minutes, ${count(n.cancelled, 'run')} called off`}
    >
      <div class="overflow-x-auto">
        <table class="w-full min-w-[36rem] text-left text-sm">
          <thead
            ><tr class="text-soft"
              ><th class="py-1 font-normal">check</th
              >{#each ['runs', 'minutes', 'failed', 'run again', 'flakes', 'called off', 'taken from the same tree'] as h (h)}<th
                  class="text-right font-normal">{h}</th
                >{/each}</tr
            ></thead
          >
          <tbody>
            {#each n.checks as k (k.name)}
              <tr class="border-t border-rule">
                <td class="py-1">{k.name}</td>
                {#each [k.runs, k.minutes.toFixed(1), k.failed, k.reruns, k.flakes, k.cancelled, k.reused] as x, i (i)}<td
                    class="text-right">{x}</td
                  >{/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </Panel>
  {/if}
</Page>
