<script lang="ts">
  // How a queue would have done with other settings, more changes, or other work: worked out by the service, which runs the very planner.
  import { onDestroy } from 'svelte';
  import { Button, Input, Label, Select } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import QueueParts from '../parts/QueueParts.svelte';
  import Trough from '../parts/Trough.svelte';
  import { answer, api, type Forecast, type ForecastFigures } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { count, lasting } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const branch = $derived(here().query.get('branch') ?? '');
  const queue = new Live(() =>
    answer(
      api.GET('/repositories/{house}/{name}/queue', {
        params: { path: { house, name }, query: { branch: branch || undefined } },
      }),
    ),
  );
  $effect(() => {
    void branch;
    return follow(queue);
  });
  const is = $derived(queue.value?.settings);

  type Numbers = Record<string, number | undefined>;
  let wish = $state<{ days: number; slots?: number; reruns?: number; arrivals?: number }>({ days: 14 });
  let tests = $state('');
  let described = $state(false);
  let work = $state({ per_hour: 6, minutes: 10, red: 10, flaky: 0, conflicting: 0, areas: 1 });
  let f = $state.raw<Forecast>();
  let problem = $state<string>();
  let asked = 0; // which forecast is waited for: a newer one takes the place of an older

  async function foresee() {
    const turn = ++asked;
    problem = undefined;
    f = undefined;
    try {
      let at = await answer(
        api.POST('/repositories/{house}/{name}/queue/forecasts', {
          params: { path: { house, name } },
          body: {
            branch: branch || undefined,
            days: wish.days,
            arrivals: wish.arrivals || undefined,
            settings: {
              slots: wish.slots || undefined,
              reruns: wish.reruns ?? undefined,
              tests: (tests || undefined) as 'strict' | 'by_area' | undefined,
            },
            work: described ? work : undefined,
          },
        }),
      );
      while (turn === asked) {
        f = at;
        if (at.state !== 'running') break;
        await new Promise((r) => setTimeout(r, 250));
        if (turn === asked) at = await answer(api.GET('/forecasts/{id}', { params: { path: { id: at.id } } }));
      }
    } catch (error) {
      if (turn === asked) [problem, f] = [(error as Error).message, undefined];
    }
  }

  async function stop() {
    asked++;
    const id = f?.id;
    f = undefined;
    // It may have ended by itself meanwhile.
    if (id) await api.DELETE('/forecasts/{id}', { params: { path: { id } } });
  }
  onDestroy(() => {
    if (f?.state === 'running') void stop();
  });

  type Way = { name: string; figures: ForecastFigures; colour: string; dash: string };
  const ways = $derived.by((): Way[] => {
    if (!f || f.state !== 'ready') return [];
    const out: Way[] = f.as_it_was
      ? [{ name: 'in truth', figures: f.as_it_was, colour: 'var(--soft)', dash: '1 3' }]
      : [];
    const colours = ['var(--ochre)', 'var(--teal)'];
    f.columns.forEach((c, i) => out.push({ name: c.name, figures: c.figures, colour: colours[i]!, dash: '' }));
    const last = f.columns.at(-1)!;
    out.push({ name: `an oracle, ${last.name}`, figures: last.oracle, colour: 'var(--soft)', dash: '6 4' });
    return out;
  });
  const longest = $derived(Math.max(...ways.filter((w) => !w.figures.overrun).map((w) => w.figures.late), 0.01));
  const line = (w: ForecastFigures) =>
    w.within
      .map((m, i): [number, number] => [(m / longest) * 400, 150 - (i / (w.within.length - 1)) * 140])
      .filter(([x]) => x <= 400)
      .map(([x, y]) => `${x.toFixed(1)},${y.toFixed(1)}`)
      .join(' ');
  const says = $derived(
    f?.state === 'ready'
      ? f.columns.length > 1
        ? `With ${f.columns[1]!.name}: ${f.columns[1]!.words}.`
        : `As it is, half land within ${lasting(60 * f.columns[0]!.figures.half)}, nine of ten within ${lasting(60 * f.columns[0]!.figures.most)}.`
      : f
        ? 'It is being worked out.'
        : 'Say what would be otherwise, and see what it would have done to what came of late.',
  );
</script>

{#snippet asks(label: string, of: Numbers, key: string, min: number, max: number, step: 1 | 'any', usual?: number)}
  <Label
    >{label}
    <Input type="number" size="sm" {min} {max} {step} placeholder={usual?.toString()} bind:value={of[key]} /></Label
  >
{/snippet}

{#snippet under()}<QueueParts {repo} {branch} at="forecast" />{/snippet}

<Page
  title={`Forecast for ${queue.value?.branch ?? 'the queue'}`}
  answer={says}
  problem={problem ?? queue.problem}
  {under}
  command={`tavrin queue forecast --slots 8 --repo ${repo}`}
>
  <Panel
    title="What would be otherwise"
    note={is
      ? `now: ${count(is.slots, 'slot')}, ${count(is.reruns, 'rerun')}, ${is.tests === 'strict' ? 'strictly in line' : 'areas side by side'}`
      : undefined}
  >
    <form
      class="grid grid-cols-2 items-end gap-4 sm:grid-cols-3 lg:grid-cols-6"
      onsubmit={(e) => {
        e.preventDefault();
        void foresee();
      }}
    >
      {@render asks('Slots', wish, 'slots', 1, 64, 1, is?.slots ?? 4)}
      {@render asks('Reruns', wish, 'reruns', 0, 5, 1, is?.reruns ?? 1)}
      <Label
        >Tested <Select
          size="sm"
          classes={{ select: 'py-1 text-xs' }}
          items={[
            { value: '', name: 'as it is' },
            { value: 'strict', name: 'strictly in line' },
            { value: 'by_area', name: 'areas side by side' },
          ]}
          placeholder=""
          bind:value={tests}
        /></Label
      >
      {@render asks('Times as many changes', wish, 'arrivals', 0.1, 20, 'any', 1)}
      {@render asks('Over days', wish, 'days', 1, 90, 1)}
      <Button type="submit" size="sm" disabled={f?.state === 'running'}>Foresee</Button>
      <label class="col-span-full flex items-center gap-2 text-sm"
        ><input type="checkbox" class="rounded border-rule bg-panel text-teal" bind:checked={described} /> not from what came
        of late, but from work that I describe</label
      >
      {#if described}
        {@render asks('Changes an hour', work, 'per_hour', 0.05, 600, 'any')}
        {@render asks('Checks take, min', work, 'minutes', 0.05, 1440, 'any')}
        {@render asks('Red, of 100', work, 'red', 0, 90, 'any')}
        {@render asks('Flaky, of 100 runs', work, 'flaky', 0, 50, 'any')}
        {@render asks('Conflicting, of 100', work, 'conflicting', 0, 50, 'any')}
        {@render asks('Areas', work, 'areas', 1, 63, 1)}
      {/if}
    </form>
    {#if f?.state === 'running'}
      <div class="mt-4 flex items-center gap-3">
        <div class="grow"><Trough share={f.done} says="How far it is" wide /></div>
        <span class="w-12 text-right text-sm">{Math.round(100 * f.done)} %</span>
        <Button size="xs" color="alternative" onclick={() => void stop()}>Give it up</Button>
      </div>
    {:else if f && f.state !== 'ready'}
      <p role="alert" class="mt-4 text-rust">The forecast is {f.state}.</p>
    {/if}
  </Panel>
  {#if f?.state === 'ready'}
    <div class="grid gap-x-6 lg:grid-cols-[3fr_2fr]">
      <Panel title="Side by side" note={`from ${f.of}`}>
        <div class="overflow-x-auto">
          <table class="w-full min-w-[34rem] text-left text-sm">
            <thead
              ><tr class="text-soft"
                ><th class="py-1 font-normal"><span class="sr-only">way</span></th
                >{#each ['half', 'nine of ten', '19 of 20', 'landed', 'ejected', 'innocent', 'check min each'] as h (h)}<th
                    class="pl-2 text-right font-normal">{h}</th
                  >{/each}</tr
              ></thead
            >
            <tbody>
              {#each ways as w (w.name)}
                <tr class="border-t border-rule">
                  <td class="py-1 pr-2">{w.name}</td>
                  {#if w.figures.overrun}
                    <td colspan="7" class="text-right text-rust"
                      >does not keep up: more than 500 wait on day {w.figures.overrun_day}</td
                    >
                  {:else}
                    {#each [lasting(60 * w.figures.half), lasting(60 * w.figures.most), lasting(60 * w.figures.late), w.figures.landed.toFixed(0), w.figures.ejected.toFixed(0), w.figures.wrongly.toFixed(1), w.figures.minutes_each.toFixed(1)] as x, i (i)}<td
                        class="pl-2 text-right whitespace-nowrap">{x}</td
                      >{/each}
                  {/if}
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      </Panel>
      <Panel title="From ready to landed" note="share that has landed within a time">
        <svg
          viewBox="-34 0 440 176"
          class="w-full max-w-xl"
          role="img"
          aria-label="The share of changes that landed within a time, for each way"
        >
          {#each [0, 25, 50, 75, 100] as share (share)}
            <line x1="0" x2="400" y1={150 - 1.4 * share} y2={150 - 1.4 * share} stroke="var(--rule)" />
            <text x="-4" y={154 - 1.4 * share} text-anchor="end" font-size="10" fill="var(--soft)">{share} %</text>
          {/each}
          {#each [0, 0.5, 1] as part (part)}
            <text
              x={400 * part}
              y="166"
              text-anchor={part === 0 ? 'start' : part === 1 ? 'end' : 'middle'}
              font-size="10"
              fill="var(--soft)">{lasting(60 * longest * part)}</text
            >
          {/each}
          {#each ways.filter((w) => !w.figures.overrun) as w (w.name)}
            <polyline
              points={line(w.figures)}
              fill="none"
              stroke={w.colour}
              stroke-width="2"
              stroke-dasharray={w.dash}
            />
          {/each}
        </svg>
        <ul class="text-xs text-soft">
          {#each ways as w (w.name)}
            <li>
              <svg width="28" height="8" class="inline" aria-hidden="true"
                ><line x1="0" x2="28" y1="4" y2="4" stroke={w.colour} stroke-width="2" stroke-dasharray={w.dash} /></svg
              >
              {w.name}
            </li>
          {/each}
        </ul>
      </Panel>
    </div>
  {/if}
</Page>
