<script lang="ts">
  // Waives requirements: which, why and for how long; then exactly that is confirmed.
  import { untrack } from 'svelte';
  import { Button, Input, Label, Modal, Select } from 'flowbite-svelte';
  import { answer, api, Problem, type InChange, type WaiverPlan } from '../lib/api';
  import Mark from './Mark.svelte';
  import Tick from './Tick.svelte';
  let { open = $bindable(false), at, done }: { open: boolean; at: InChange; done: () => Promise<void> } = $props();
  const params = $derived({ path: at });
  let plan = $state<WaiverPlan>();
  let keys = $state<string[]>();
  let reason = $state('');
  let length = $state('3600');
  let confirming = $state(false);
  let problem = $state<string>();
  const lengths = [
    { value: '900', name: 'a quarter of an hour' },
    { value: '3600', name: 'an hour' },
    { value: '14400', name: 'four hours' },
    { value: '86400', name: 'a day' },
  ];
  // All that may be waived, as the first plan names it; later ones are for what is chosen of it.
  let all = $state.raw<WaiverPlan>();

  async function ask() {
    problem = undefined;
    try {
      plan = await answer(
        api.POST('/repositories/{house}/{name}/changes/{number}/waivers/plan', {
          params,
          body: { requirements: keys ?? [] },
        }),
      );
      all ??= plan;
      keys ??= plan.waives.map((r) => r.key);
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  $effect(() => {
    if (!open) return;
    untrack(() => {
      [plan, all, keys, confirming, problem] = [undefined, undefined, undefined, false, undefined];
      void ask();
    });
  });
  async function next() {
    await ask();
    if (!problem) confirming = true;
  }
  async function submit() {
    problem = undefined;
    try {
      await answer(
        api.POST('/repositories/{house}/{name}/changes/{number}/waivers', {
          params,
          body: { requirements: keys, reason, for_seconds: Number(length), confirm: plan!.confirm },
        }),
      );
      await answer(api.POST('/repositories/{house}/{name}/changes/{number}/queue', { params, body: {} })).catch(
        (error: unknown) => {
          if (!(error instanceof Problem) || error.status !== 409) throw error; // it is in the queue already
        },
      );
      open = false;
      await done();
    } catch (error) {
      problem = (error as Error).message;
      confirming = false;
    }
  }
  const toggle = (key: string) => (keys = keys?.includes(key) ? keys.filter((k) => k !== key) : [...(keys ?? []), key]);
</script>

<Modal title="Waive requirements" bind:open size="md">
  <div class="flex flex-col gap-3 text-ink">
    {#if confirming && plan}
      <p>Exactly this is waived, once, for this revision on the target’s current tip:</p>
      <ul>
        {#each plan.waives as r (r.key)}<li>
            <Mark state="waived" />
            {r.title}
            <span class="block pl-6 text-sm text-soft">{r.because}</span>
          </li>{/each}
      </ul>
      <p>
        Your reason: {reason}. Everybody sees it, on the change, in the journal and in the history, and somebody else
        has to acknowledge it afterwards.
      </p>
      <div class="flex gap-2">
        <Button size="sm" onclick={submit}>Waive exactly that and land</Button>
        <Button size="sm" color="alternative" onclick={() => (confirming = false)}>Back</Button>
      </div>
    {:else if all}
      <fieldset class="flex flex-col gap-1">
        <legend class="mb-1 text-sm text-soft">What to waive</legend>
        {#each all.waives as r (r.key)}
          <Tick checked={keys?.includes(r.key)} onchange={() => toggle(r.key)}>{r.title}</Tick>
        {/each}
        {#each all.left as r (r.key)}<p class="text-sm text-soft">You may not waive {r.title}: {r.why}</p>{/each}
      </fieldset>
      <Label for="waive-why" class="text-ink">Why it cannot wait; everybody reads it</Label>
      <Input id="waive-why" bind:value={reason} />
      <Label for="waive-long" class="text-ink">It may be used for</Label>
      <Select id="waive-long" size="sm" items={lengths} bind:value={length} placeholder="" />
      <div>
        <Button size="sm" disabled={!reason.trim() || !keys?.length} onclick={next}>Show what would be waived</Button>
      </div>
    {:else if !problem}<p class="text-soft">Loading …</p>{/if}
    {#if problem}<p role="alert" class="text-rust">{problem}</p>{/if}
  </div>
</Modal>
