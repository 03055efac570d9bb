<script lang="ts">
  // What a queue decided, and why: it is told again what it was told, so that what is shown is what was done.
  import { Input, Label } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import QueueParts from '../parts/QueueParts.svelte';
  import { answer, api } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { count, exactly } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const branch = $derived(here().query.get('branch') ?? '');
  let number = $state<number | undefined>(Number(here().query.get('change')) || undefined);
  let rehearsal = $state<number | undefined>(Number(here().query.get('rehearsal')) || undefined);
  let since = $state('');
  let until = $state('');
  const moment = (text: string) => (text && !Number.isNaN(Date.parse(text)) ? new Date(text).toISOString() : undefined);
  const decisions = new Live(
    () =>
      answer(
        api.GET('/repositories/{house}/{name}/queue/decisions', {
          params: {
            path: { house, name },
            query: {
              branch: branch || undefined,
              number: number || undefined,
              rehearsal: rehearsal || undefined,
              since: moment(since),
              until: moment(until),
              weighed: true,
              limit: 200,
            },
          },
        }),
      ),
    () => ({ repository: repo, kinds: ['queue.', 'rehearsal.', 'landing.', 'change.landed'] }),
  );
  $effect(() => {
    void [branch, number, rehearsal, since, until];
    return follow(decisions);
  });
  const all = $derived(decisions.value?.toReversed() ?? []);
  const path = (of: number[]) => of.join(' < ');
</script>

{#snippet under()}<QueueParts {repo} {branch} at="decisions" />{/snippet}

<Page
  title={`Decisions of ${branch || 'the queue'}`}
  answer={decisions.value &&
    (all.length === 0
      ? 'Nothing was decided, as far as it was asked for.'
      : `${count(all.length, 'decision')}${all.length === 200 ? ', the newest of them' : ''}. Told again what it was told, the planner decides the same.`)}
  problem={decisions.problem}
  {under}
  command={`tavrin queue decisions${number ? ` ${number}` : ''} --weighed${rehearsal ? ` --rehearsal ${rehearsal}` : ''} --repo ${repo}${branch ? ` --branch ${branch}` : ''}`}
>
  <div class="mb-4 grid grid-cols-2 gap-4 lg:grid-cols-4">
    <Label>About change <Input type="number" size="sm" min="1" placeholder="all" bind:value={number} /></Label>
    <Label>About rehearsal <Input type="number" size="sm" min="1" placeholder="all" bind:value={rehearsal} /></Label>
    <Label>Since <Input type="datetime-local" size="sm" bind:value={since} /></Label>
    <Label>Until <Input type="datetime-local" size="sm" bind:value={until} /></Label>
  </div>
  <Panel title="Newest first">
    <ol class="divide-y divide-rule text-sm">
      {#each all as d, i (all.length - i)}
        <li class="grid gap-x-4 py-2 md:grid-cols-[10rem_14rem_1fr]">
          <time class="whitespace-nowrap text-soft" datetime={d.at} title={exactly(d.at)}
            >{exactly(d.at).slice(0, 19)}</time
          >
          <div>
            <span class="font-medium">{d.do}</span>
            {#if d.path.length > 0}
              <span class="block"
                >{#each d.path as n, k (k)}{k > 0 ? ' < ' : ''}<a class="plain-link" href={`/${repo}/changes/${n}`}
                    >{n}</a
                  >{/each}
                <button type="button" class="text-soft underline" onclick={() => (rehearsal = d.rehearsal)}
                  >rehearsal {d.rehearsal}</button
                ></span
              >
            {:else if d.number}
              <a class="plain-link block" href={`/${repo}/changes/${d.number}`}>change {d.number}</a>
            {/if}
          </div>
          <div class="min-w-0">
            <p class="break-words">{d.why} <span class="text-soft">(told: {d.told})</span></p>
            {#if d.weighed}
              {@const w = d.weighed}
              <details class="mt-1">
                <summary class="cursor-pointer text-soft"
                  >what was weighed: {w.busy} of {w.slots} slots taken, a path had to be worth {w.least.toFixed(2)} landings</summary
                >
                <div class="mt-1 grid gap-x-6 gap-y-2 sm:grid-cols-2">
                  <table class="h-fit w-full">
                    <thead
                      ><tr class="text-left text-soft"
                        ><th class="font-normal">path</th><th class="text-right font-normal">worth</th></tr
                      ></thead
                    >
                    <tbody
                      >{#each w.options as o (path(o.path))}<tr
                          class="border-t border-rule"
                          class:font-semibold={path(o.path) === path(d.path)}
                          ><td>{path(o.path)}</td><td class="text-right">{o.worth.toFixed(2)}</td></tr
                        >{/each}</tbody
                    >
                  </table>
                  <table class="h-fit w-full">
                    <thead
                      ><tr class="text-left text-soft"
                        ><th class="font-normal">change</th><th class="text-right font-normal">thought good</th></tr
                      ></thead
                    >
                    <tbody
                      >{#each w.thought.slice(0, 12) as t (t.number)}<tr class="border-t border-rule"
                          ><td>{t.number}</td><td class="text-right"
                            >{(100 * t.good).toFixed(0)} %<span class="block text-xs text-soft">{t.why}</span></td
                          ></tr
                        >{/each}</tbody
                    >
                  </table>
                </div>
              </details>
            {/if}
          </div>
        </li>
      {:else}
        <li class="py-2 text-soft">Nothing.</li>
      {/each}
    </ol>
  </Panel>
</Page>
