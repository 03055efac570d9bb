<script lang="ts">
  import type { Diff } from '../lib/api';
  import { readPatch } from '../lib/patch';
  // ask begins a discussion on a line; without it, lines are for reading only.
  let { diff, ask }: { diff: Diff; ask?: (path: string, line: number, before: boolean) => void } = $props();
  const files = $derived(readPatch(diff.patch));
  const signs = { added: '+', removed: '−', same: ' ', gap: '' };
</script>

{#each files as file, i (file.path)}
  <details class="mb-3" open={i < 20}>
    <summary class="cursor-pointer rounded bg-sheet px-2 py-1 font-mono text-sm break-all">
      {file.path}
      {#each file.notes as note (note)}<span class="ml-2 font-sans text-soft">{note}</span>{/each}
    </summary>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="overflow-x-auto" tabindex="0" role="region" aria-label={`Difference in ${file.path}`}>
      <table class="w-full border-collapse font-mono text-[13px] leading-5">
        <tbody>
          {#each file.lines as line, n (n)}
            {#if line.kind === 'gap'}
              <tr class="text-soft"><td colspan="4" class="px-2 pt-2">⋯ {line.text}</td></tr>
            {:else}
              <tr class:bg-added={line.kind === 'added'} class:bg-removed={line.kind === 'removed'}>
                <td class="w-10 px-1 text-right text-soft select-none">{line.old ?? ''}</td>
                <td class="w-10 px-1 text-right text-soft select-none">
                  {#if ask && (line.new ?? line.old)}
                    <button
                      type="button"
                      class="cursor-pointer hover:underline"
                      aria-label={`Discuss line ${line.new ?? line.old}${line.new ? '' : ' before the change'}`}
                      onclick={() => ask(file.path, (line.new ?? line.old)!, !line.new)}>{line.new ?? '·'}</button
                    >
                  {:else}{line.new ?? ''}{/if}
                </td>
                <td class="w-4 text-center">{signs[line.kind]}</td>
                <td class="pr-3 whitespace-pre">{line.text}</td>
              </tr>
            {/if}
          {/each}
        </tbody>
      </table>
    </div>
  </details>
{:else}
  <p class="text-soft">No text differs.</p>
{/each}
{#if diff.partial}<p class="text-ochre">
    The difference is longer than what is shown; fetch the branch to see all of it.
  </p>{/if}
