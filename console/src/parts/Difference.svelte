<script lang="ts">
  // What a change brings, or what came to it since a revision, or one commit of it.
  import { untrack } from 'svelte';
  import { Button, Input, Select } from 'flowbite-svelte';
  import { answer, api, type Change, type InChange, type Revision, type Thread } from '../lib/api';
  import { Difference, lineHeight, type Asked, type Chosen, type ShownFile } from '../lib/difference.svelte';
  import type { SaidOf } from '../lib/annotations';
  import { count, short } from '../lib/words';
  import FileLines from './FileLines.svelte';
  import Name from './Name.svelte';
  import Tick from './Tick.svelte';

  let {
    at,
    change,
    revisions,
    threads,
    said,
    chosen,
    choose,
  }: {
    at: InChange;
    change: Change;
    revisions: Revision[];
    threads: Thread[];
    /** what checks say about lines as they are now */
    said: SaidOf;
    chosen?: Chosen;
    choose?: (at: Chosen) => void;
  } = $props();

  let what = $state('all');
  let space = $state(false);
  let two = $state(false);
  let filter = $state('');
  let shown = $state.raw<Difference>();
  let problem = $state<string>();
  let looked = $state<number>(); // the revision up to which this person had looked when the page was opened
  let list = $state<HTMLElement>();
  let view = $state({ from: 0, to: 1600 });

  const newest = $derived(revisions.find((r) => r.number === change.revision));
  const earlier = $derived(revisions.filter((r) => r.number < change.revision));
  const choices = $derived([
    { value: 'all', name: 'everything' },
    ...(looked && looked < change.revision
      ? [{ value: `since=${looked}`, name: `new since you looked, at revision ${looked}` }]
      : []),
    ...earlier
      .filter((r) => r.number !== looked)
      .map((r) => ({ value: `since=${r.number}`, name: `since revision ${r.number}` })),
    ...earlier.map((r) => ({ value: `revision=${r.number}`, name: `revision ${r.number}, as it was` })),
    ...(newest?.commits ?? []).map((k) => ({ value: `commit=${k.id}`, name: `${short(k.id)} ${k.subject}` })),
  ]);
  const query = $derived.by((): Asked => {
    const [kind, value = ''] = what.split('=');
    return {
      revision: kind === 'revision' ? Number(value) : change.revision,
      ...(kind === 'since' && { since: Number(value) }),
      ...(kind === 'commit' && { commit: value }),
      ...(space && { space: 'ignored' as const }),
    };
  });
  const inWords = (a: Asked) =>
    Object.entries(a)
      .map((pair) => pair.join('='))
      .join('&');
  const same = (a: Asked, b: Asked) => inWords(a) === inWords(b);
  // Everything that can be pressed is about what is shown, not about what was chosen and is still on its way.
  const commit = $derived(shown?.about.commit || undefined);
  /** Whether what is shown may be spoken of: the newest difference, or a commit of it. */
  const speakable = $derived(shown?.about.revision === change.revision && !shown.about.since);
  /** Whether another difference is on its way, so that nothing here is to be pressed any more. */
  const replaced = $derived(!!shown && !same(shown.query, query));

  $effect(() => {
    const asked = query;
    problem = undefined;
    answer(
      api.GET('/repositories/{house}/{name}/changes/{number}/diff', {
        params: { path: at, query: { ...asked, files: true } },
      }),
    ).then(
      (d) => {
        if (!same(asked, query)) return;
        looked ??= d.looked ?? 0;
        const next = new Difference(d, at, asked);
        next.columns = untrack(() => (two ? 2 : 1));
        shown = next;
      },
      (error: Error) => (problem = error.message),
    );
  });
  $effect(() => {
    if (shown) shown.columns = two ? 2 : 1;
  });

  // What of the list is in view, with some to spare.
  function look() {
    if (!list) return;
    const top = list.getBoundingClientRect().top;
    view = { from: -top - 600, to: -top + innerHeight + 600 };
  }
  $effect(() => {
    void [shown, list];
    look();
    const grown = new ResizeObserver(look); // what stands above it may push it about without anybody scrolling
    grown.observe(document.body);
    return () => grown.disconnect();
  });
  const seen = $derived(shown ? shown.between(view.from, view.to) : [0, 0]);
  $effect(() => {
    if (!shown) return;
    for (const f of shown.files.slice(seen[0], seen[1])) if (f.open) shown.want(f);
  });
  // Having had the newest revision on the screen is remembered: next time, what is new since then can be asked for.
  let told = 0;
  $effect(() => {
    if (
      !list ||
      !shown ||
      view.to - 600 < 0 ||
      told === change.revision ||
      shown.about.commit ||
      shown.about.revision !== change.revision
    )
      return;
    told = change.revision;
    void answer(
      api.PUT('/repositories/{house}/{name}/changes/{number}/looked', {
        params: { path: at },
        body: { revision: change.revision },
      }),
    ).catch(() => {});
  });

  const matching = $derived(
    filter ? (shown?.files ?? []).filter((f) => f.about.path.toLowerCase().includes(filter.toLowerCase())) : [],
  );
  function jump(f: ShownFile) {
    const i = shown!.files.indexOf(f);
    f.open = true;
    scrollTo({ top: list!.getBoundingClientRect().top + scrollY + shown!.tops[i]! - 8 });
    filter = '';
  }
  async function tick(f: ShownFile) {
    f.read = !f.read;
    f.open = !f.read;
    try {
      await answer(
        api.PUT('/repositories/{house}/{name}/changes/{number}/diff/{file}/read', {
          params: { path: { ...at, file: f.about.file } },
          body: { read: f.read, revision: shown!.about.revision },
        }),
      );
    } catch (error) {
      f.read = !f.read;
      problem = (error as Error).message;
    }
  }
  const discussed = (f: ShownFile) => (line: number, before: boolean) =>
    threads.find((t) => {
      if (t.resolved) return false;
      const at = t.now ?? (t.revision === change.revision ? { path: t.path, first: t.first_line } : undefined);
      return at?.path === f.about.path && at?.first === line && !!t.before === before;
    })?.id;
  function pick(f: ShownFile, line: number, before: boolean, extend: boolean) {
    let [first, last] = [line, line];
    if (extend && chosen?.path === f.about.path && chosen.before === before)
      [first, last] = [Math.min(chosen.first, line), Math.max(chosen.last, line)];
    const text = (f.lines ?? [])
      .filter((l) => !before && l.new !== undefined && l.new >= first && l.new <= last)
      .map((l) => l.text)
      .join('\n');
    choose?.({ revision: shown!.about.revision, path: f.about.path, first, last, before, text, commit });
  }
  const settled = $derived(
    !!shown &&
      !replaced &&
      shown.files.slice(seen[0], seen[1]).every((f) => !f.open || f.lines || f.without || f.problem),
  );
  const notes = (f: ShownFile) =>
    [
      f.about.status === 'renamed' ? `was ${f.about.old_path}` : f.about.status === 'changed' ? '' : f.about.status,
      f.about.new_mode ? `mode ${f.about.old_mode} to ${f.about.new_mode}` : '',
      ...f.about.notes,
      f.open ? '' : f.folded,
    ].filter(Boolean);
</script>

<svelte:window onscroll={look} onresize={look} />

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
  <label class="flex items-center gap-2"
    >Show <Select class="max-w-72" size="sm" items={choices} bind:value={what} placeholder="" /></label
  >
  <Tick bind:checked={space}>ignore white space</Tick>
  <Tick bind:checked={two}>in two columns</Tick>
  <Input class="max-w-52" size="sm" bind:value={filter} placeholder="find a file" aria-label="Find a file" />
  {#if shown}<span class="text-soft"
      >{count(shown.files.length, 'file')}, {shown.files.filter((f) => f.read).length} read</span
    >{/if}
</div>
{#if filter}
  <ul class="mb-3 max-h-48 overflow-auto rounded border border-rule p-2 font-mono text-sm">
    {#each matching.slice(0, 200) as f (f.about.file)}
      <li>
        <button type="button" class="cursor-pointer text-left break-all hover:underline" onclick={() => jump(f)}
          ><Name text={f.about.path} /></button
        >
      </li>
    {:else}<li class="font-sans text-soft">No file of that name.</li>{/each}
  </ul>
{/if}
{#if problem}<p role="alert" class="text-rust">{problem}</p>{/if}
{#if shown && shown.about.not_taken_out.length > 0}
  <p class="mb-3 border-l-4 border-ochre bg-sheet p-2 text-sm">
    In {shown.about.not_taken_out.join(', ')} what came only from {change.target} could not be told from what the author changed:
    both are shown.
  </p>
{/if}

{#if shown}
  <div
    bind:this={list}
    class="relative transition-opacity"
    class:opacity-40={replaced}
    inert={replaced}
    aria-busy={!settled}
    data-shows={inWords(shown.query)}
    style:height={`${shown.tops[shown.files.length]}px`}
  >
    {#each shown.files.slice(seen[0], seen[1]) as f, n (f.about.file)}
      {@const i = seen[0]! + n}
      {@const [first, last] = shown.linesBetween(i, view.from, view.to)}
      <section
        class="absolute inset-x-0"
        style:top={`${shown.tops[i]}px`}
        style:height={`${shown.tops[i + 1]! - shown.tops[i]! - 12}px`}
        aria-label={`Difference in ${f.about.path}`}
      >
        <header class="flex h-11 items-center gap-3 rounded bg-sheet px-2 text-sm">
          <button
            type="button"
            class="min-w-0 cursor-pointer truncate text-left font-mono hover:underline"
            aria-expanded={f.open}
            title={f.about.path}
            onclick={() => (f.open = !f.open)}>{f.open ? '▾' : '▸'} <Name text={f.about.path} /></button
          >
          {#each notes(f) as note (note)}<span class="shrink-0 truncate text-soft"><Name text={note} /></span>{/each}
          <span class="grow"></span>
          <span class="shrink-0 whitespace-nowrap text-soft">+{f.about.added} −{f.about.removed}</span>
          {#if choose && speakable}<button
              type="button"
              class="plain-link shrink-0 cursor-pointer"
              aria-label={`Discuss the file ${f.about.path}`}
              onclick={() =>
                choose({
                  revision: shown!.about.revision,
                  path: f.about.path,
                  first: 0,
                  last: 0,
                  before: false,
                  text: '',
                  commit,
                })}>discuss</button
            >{/if}
          {#if !shown.about.commit}<span class="shrink-0"
              ><Tick checked={f.read} onchange={() => tick(f)} label={`I have read ${f.about.path}`}>read</Tick></span
            >{/if}
        </header>
        {#if f.open}
          {#if f.problem}<p class="px-2 text-rust">{f.problem}</p>
          {:else if f.without}<p class="px-2 text-soft">{f.without}</p>
          {:else if f.lines}
            <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
            <div
              class="overflow-x-auto overflow-y-hidden font-mono text-[13px] leading-5"
              tabindex="0"
              role="region"
              aria-label={`Lines of ${f.about.path}`}
            >
              <FileLines
                rows={f.rows(shown.columns)}
                html={f.html}
                {first}
                {last}
                path={f.about.path}
                {chosen}
                discussed={discussed(f)}
                said={(line) => said(f.about.path, line)}
                choose={choose && speakable ? (line, before, extend) => pick(f, line, before, extend) : undefined}
              />
            </div>
            {#if f.partial}<p class="h-5 px-2 text-ochre">
                There is more: tavrin change fetch {change.number} brings all of it.
              </p>{/if}
          {:else}<p class="px-2 text-soft" style:height={`${lineHeight}px`}>…</p>{/if}
        {/if}
      </section>
    {:else}
      {#if shown.files.length === 0}<p class="text-soft">Nothing differs.</p>{/if}
    {/each}
  </div>
{/if}
<p class="sr-only" aria-live="polite">{shown ? count(shown.files.length, 'file') : ''}</p>
{#if shown && shown.files.some((f) => !f.open)}
  <Button size="xs" color="alternative" onclick={() => shown!.files.forEach((f) => (f.open = true))}
    >Open every file</Button
  >
{/if}
