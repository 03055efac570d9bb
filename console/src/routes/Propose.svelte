<script lang="ts">
  // Opens a change; before that, says what it will meet.
  import { Button, Input, Label, Select } from 'flowbite-svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Tick from '../parts/Tick.svelte';
  import Way from '../parts/Way.svelte';
  import Write from '../parts/Write.svelte';
  import { answer as answered, api, type Preview } from '../lib/api';
  import { Live } from '../lib/live.svelte';
  import { go, here } from '../lib/router.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const path = $derived({ house, name });
  const branches = new Live(() => answered(api.GET('/repositories/{house}/{name}/branches', { params: { path } })));
  $effect(() => void branches.reload());
  let source = $state(here().query.get('source') ?? '');
  let target = $state(here().query.get('target') ?? '');
  let title = $state('');
  let description = $state('');
  let begun = ''; // what the description began with
  let draft = $state(false);
  let preview = $state.raw<Preview>();
  let problem = $state<string>();

  $effect(() => {
    const main = branches.value?.find((b) => b.default);
    if (!target && main) target = main.name;
  });
  $effect(() => {
    preview = undefined;
    problem = undefined;
    if (!source || !target) return;
    answered(api.GET('/repositories/{house}/{name}/preview', { params: { path, query: { source, target } } })).then(
      (p) => {
        if (p.source !== source || p.target !== target) return;
        preview = p;
        if (description === begun) description = begun = p.description;
        title ||= branches.value?.find((b) => b.name === source)?.subject ?? '';
      },
      (error: Error) => (problem = error.message),
    );
  });
  const sources = $derived([
    { value: '', name: 'choose a branch' },
    ...(branches.value ?? [])
      .filter((b) => b.name !== target && b.protections.length === 0)
      .map((b) => ({ value: b.name, name: b.name })),
  ]);
  const targets = $derived((branches.value ?? []).map((b) => ({ value: b.name, name: b.name })));
  const answer = $derived.by(() => {
    if (!preview) return 'Choose a branch, and see what bringing it in will take, before anything is opened.';
    const size = `${count(preview.commits, 'commit')}, ${count(preview.files, 'file')}, +${preview.added} −${preview.removed}.`;
    return preview.conflict ? `${size} It does not merge now.` : `${size} It merges.`;
  });
  async function open(event: SubmitEvent) {
    event.preventDefault();
    problem = undefined;
    try {
      const k = await answered(
        api.POST('/repositories/{house}/{name}/changes', {
          params: { path },
          body: { source, target, title, description, draft },
        }),
      );
      go(`/${repo}/changes/${k.number}`);
    } catch (error) {
      problem = (error as Error).message;
    }
  }
</script>

<Page
  title="Propose a change"
  {answer}
  problem={problem ?? branches.problem}
  command={`tavrin change preview --source ${source || 'BRANCH'} --target ${target} --repo ${repo}\ntavrin change open --source ${source || 'BRANCH'} --target ${target} --title TEXT --repo ${repo}`}
>
  <form onsubmit={open} class="mb-6 flex max-w-3xl flex-col gap-3">
    <div class="grid gap-3 sm:grid-cols-2">
      <Label class="text-ink">Bring <Select items={sources} bind:value={source} placeholder="" size="sm" /></Label>
      <Label class="text-ink">into <Select items={targets} bind:value={target} placeholder="" size="sm" /></Label>
    </div>
    {#if preview}
      <Label for="title" class="text-ink">Title: what it does, in a line</Label>
      <Input id="title" size="sm" bind:value={title} required />
      <Write
        id="description"
        label="Description: why, and what a reviewer should know"
        bind:value={description}
        rows={6}
      />
      <Tick bind:checked={draft}>Draft: not finished yet</Tick>
      <div><Button type="submit" size="sm">Open the change</Button></div>
    {/if}
  </form>
  {#if preview}
    {#if preview.conflict}
      <p class="mb-4 border-l-4 border-rust bg-panel p-3"><Mark state="missing" /> {preview.conflict}</p>
    {/if}
    <div class="mb-6"><Way report={preview.report} {source} {target} landed={false} /></div>
    <Panel
      title="Who will be asked"
      note={preview.areas.enough.length > 0 ? `enough would be ${preview.areas.enough.join(' and ')}` : ''}
    >
      <ul class="text-sm">
        {#each preview.reviewers as r (r.who)}
          <li>
            {r.optional ? 'Told of it' : 'Asked to review'}: <span class="font-medium">{r.who}</span>
            <span class="text-soft">as {r.reason} says</span>
          </li>
        {:else}<li class="text-soft">Nobody is asked by the rules; you may ask people yourself.</li>{/each}
        {#each preview.areas.areas as a (a.area + a.source.line)}<li>
            Touches {a.area}, owned by {a.owners.join(', ')}
          </li>{/each}
      </ul>
    </Panel>
  {/if}
</Page>
