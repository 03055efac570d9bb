<script lang="ts">
  // A place to write Markdown, with a look at how it will be laid out.
  import { Textarea } from 'flowbite-svelte';
  import { answer, api } from '../lib/api';
  import Words from './Words.svelte';
  let {
    id,
    label,
    value = $bindable(''),
    rows = 3,
    placeholder = '',
  }: { id: string; label: string; value: string; rows?: number; placeholder?: string } = $props();
  let html = $state<string>();
  let problem = $state<string>();
  async function preview() {
    problem = undefined;
    if (html !== undefined) return (html = undefined);
    try {
      html = (await answer(api.POST('/markdown', { body: { text: value } }))).html;
    } catch (error) {
      problem = (error as Error).message;
    }
  }
</script>

<div class="flex items-baseline justify-between gap-4">
  <label for={id} class="text-sm font-medium">{label}</label>
  <button
    type="button"
    class="plain-link cursor-pointer text-sm"
    aria-pressed={html !== undefined}
    onclick={preview}
    disabled={!value.trim() && html === undefined}>{html === undefined ? 'Preview' : 'Edit'}</button
  >
</div>
{#if html !== undefined}
  <div class="min-h-16 rounded border border-rule p-2"><Words {html} /></div>
{:else}
  <Textarea {id} {rows} {placeholder} class="w-full bg-sheet text-ink dark:bg-sheet dark:text-ink" bind:value />
{/if}
{#if problem}<p role="alert" class="text-sm text-rust">{problem}</p>{/if}
