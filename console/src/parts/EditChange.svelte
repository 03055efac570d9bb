<script lang="ts">
  // Alters a change: title, description, target, and what it waits for.
  import { untrack } from 'svelte';
  import { Button, Input, Label, Select } from 'flowbite-svelte';
  import { answer, api, repoNamed, type Change, type ChangeEdit } from '../lib/api';
  import Write from './Write.svelte';
  let {
    change,
    repo,
    save,
    cancel,
  }: {
    change: Change;
    repo: string;
    save: (edit: ChangeEdit, ask: string[], labels: string[]) => Promise<unknown>;
    cancel: () => void;
  } = $props();
  // What is being altered is not what comes in meanwhile.
  let [title, description, target, depends, labels] = $state(
    untrack(() => [
      change.title,
      change.description,
      change.target,
      change.depends_on.join(', '),
      change.labels.join(', '),
    ]),
  );
  let ask = $state('');
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  // The one it has can be seen before the others are known.
  let branches = $state.raw(untrack(() => [{ value: change.target, name: change.target }]));
  $effect(() => {
    void answer(api.GET('/repositories/{house}/{name}/branches', { params: { path: repoNamed(repo) } })).then(
      (all) => (branches = all.filter((b) => b.name !== change.source).map((b) => ({ value: b.name, name: b.name }))),
    );
  });
  function submit(event: SubmitEvent) {
    event.preventDefault();
    const numbers = depends
      .split(/[\s,]+/)
      .filter(Boolean)
      .map(Number);
    const edit: ChangeEdit = {};
    if (title !== change.title) edit.title = title;
    if (description !== change.description) edit.description = description;
    if (target !== change.target) edit.target = target;
    if (numbers.join() !== change.depends_on.join()) edit.depends_on = numbers;
    const named = words(labels);
    const same = Object.keys(edit).length === 0 && !ask.trim() && named.join() === change.labels.join();
    void (same ? cancel() : save(edit, words(ask), named));
  }
</script>

<form onsubmit={submit} class="flex flex-col gap-2">
  <Label for="edit-title" class="text-ink">Title</Label>
  <Input id="edit-title" size="sm" bind:value={title} required />
  <Write id="edit-description" label="Description" bind:value={description} rows={6} />
  <div class="grid gap-2 sm:grid-cols-2">
    <Label class="text-ink"
      >Target <Select size="sm" items={branches} bind:value={target} placeholder="" /><span
        class="text-sm font-normal text-soft">another one makes a new revision, and takes it out of the queue</span
      ></Label
    >
    <Label class="text-ink"
      >Waits for changes <Input size="sm" bind:value={depends} placeholder="numbers, such as 3, 7" /></Label
    >
  </div>
  <div class="grid gap-2 sm:grid-cols-2">
    <Label class="text-ink"
      >Ask for a review <Input size="sm" bind:value={ask} placeholder="such as person:odo, team:field" /></Label
    >
    <Label class="text-ink"
      >Labels <Input size="sm" bind:value={labels} placeholder="those that the rules define" /></Label
    >
  </div>
  <div class="flex gap-2">
    <Button size="sm" type="submit">Save</Button>
    <Button size="sm" color="alternative" onclick={cancel}>Cancel</Button>
  </div>
</form>
