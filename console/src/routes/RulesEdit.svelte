<script lang="ts">
  import { Button, Input, Label, Select } from 'flowbite-svelte';
  import Confirm from '../parts/Confirm.svelte';
  import Differences from '../parts/Differences.svelte';
  import Findings from '../parts/Findings.svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import { answer as answered, api, Problem, type Rules, type RulesTrial, type Template } from '../lib/api';
  import { rulesPlace } from '../lib/place';
  import { go, here } from '../lib/router.svelte';
  import { count } from '../lib/words';

  let { house, name }: { house: string; name?: string } = $props();
  const place = $derived(rulesPlace(house, name));

  /** How long nobody types before the document is tried, in milliseconds. */
  const pause = 350;
  /** How many of the last landings it is tried on. */
  const last = 20;

  let text = $state('');
  let read = $state<Rules>();
  let templates = $state<Template[]>([]);
  let chosen = $state('');
  let tried = $state.raw<RulesTrial>();
  let reason = $state('');
  let problem = $state<string>();
  let told = $state<string>();
  let asking = $state(false);
  let area: HTMLTextAreaElement | undefined = $state();
  let gutter: HTMLElement | undefined = $state();
  const lines = $derived(text.split('\n').length);
  const changed = $derived(read !== undefined && text !== read.text);

  // The version in force is what the edit is based on, also when an earlier one is taken up again.
  async function load() {
    try {
      const now = await place.read();
      const earlier = Number(here().query.get('version') ?? 0);
      text = earlier ? (await place.read(earlier)).text : now.text;
      if (earlier) reason = `return to version ${earlier}`;
      read = now;
      templates = await answered(api.GET('/rules/templates'));
    } catch (error) {
      problem = (error as Error).message;
    }
  }
  void load();

  let turn = 0;
  $effect(() => {
    const draft = text;
    const mine = ++turn;
    const timer = setTimeout(async () => {
      if (!draft.trim()) {
        tried = undefined;
        return;
      }
      try {
        const trial = await place.attempt(draft, last);
        if (mine === turn) [tried, problem] = [trial, undefined];
      } catch (error) {
        if (mine === turn) problem = (error as Error).message;
      }
    }, pause);
    return () => clearTimeout(timer);
  });

  function show(line: number) {
    if (!area) return;
    const before = text.split('\n').slice(0, line - 1);
    const from = before.join('\n').length + (line > 1 ? 1 : 0);
    area.focus();
    area.setSelectionRange(from, from + (text.split('\n')[line - 1]?.length ?? 0));
    area.scrollTop = Math.max(0, (line - 6) * 20);
  }
  async function apply() {
    problem = told = undefined;
    try {
      const v = await place.apply(text, reason, read?.version ?? 0);
      if (v.proposal)
        told = `Proposal ${v.proposal.id} was made: it loosens the rules, and a second person has to agree.`;
      else go(place.page);
    } catch (error) {
      if (error instanceof Problem && error.status === 403 && error.message.startsWith('confirm')) asking = true;
      else problem = (error as Error).message;
    }
  }
  const findings = $derived(tried?.findings ?? []);
  const answer = $derived.by(() => {
    if (!tried) return 'Write what has to hold. What is wrong, and what it would change, is shown as you type.';
    if (findings.length > 0) return `It cannot be applied: ${count(findings.length, 'finding')}.`;
    if (!changed) return 'This is the document in force.';
    const blocked = tried.changes.filter((c) => c.outcome === 'blocked').length;
    const stopped = tried.landed.filter((l) => l.stopped).length;
    return (
      `It can be applied. It would block ${count(blocked, 'open change')}, free ${tried.changes.filter((c) => c.outcome === 'freed').length},` +
      ` and would have stopped ${stopped} of the last ${count(tried.landed.length, 'landing')}.`
    );
  });
</script>

<Page
  title={name ? 'Edit the rules' : `Edit the house rules of ${house}`}
  {answer}
  {problem}
  command={`tavrin rules lint FILE ${place.flag}\ntavrin rules try FILE --last ${last} ${place.flag}\ntavrin rules apply FILE --reason TEXT --if-version ${read?.version ?? 0} ${place.flag}`}
>
  <div class="grid gap-6 lg:grid-cols-2 lg:items-start">
    <Panel title="The document" note={`based on version ${read?.version ?? 0}`}>
      {#if !text.trim() && templates.length > 0}
        <div class="mb-3 flex flex-wrap items-end gap-2">
          <Label class="text-ink"
            >Begin with
            <Select
              size="sm"
              class="mt-1 w-72"
              items={templates.map((t) => ({ value: t.name, name: t.for.split(':')[0]! }))}
              bind:value={chosen}
              placeholder="template"
            /></Label
          >
          <Button
            size="sm"
            color="alternative"
            onclick={() => (text = templates.find((t) => t.name === chosen)?.text ?? '')}>Take it</Button
          >
        </div>
      {/if}
      <Label for="document" class="sr-only">Rules document, YAML</Label>
      <div class="flex h-[34rem] overflow-hidden rounded border border-rule font-mono text-[13px] leading-5">
        <pre
          bind:this={gutter}
          aria-hidden="true"
          class="overflow-hidden border-r border-rule px-2 py-2 text-right text-soft select-none">{Array.from(
            { length: lines },
            (_, i) => i + 1,
          ).join('\n')}</pre>
        <textarea
          id="document"
          bind:this={area}
          bind:value={text}
          spellcheck="false"
          wrap="off"
          class="min-w-0 grow resize-none border-0 bg-sheet px-2 py-2 text-[13px] leading-5 whitespace-pre text-ink focus:ring-0"
          onscroll={() => gutter && area && (gutter.scrollTop = area.scrollTop)}
          onkeydown={(e) => {
            if (e.key !== 'Tab' || e.shiftKey || e.ctrlKey || e.altKey) return;
            e.preventDefault(); // two spaces; Shift and Tab leaves the field
            area!.setRangeText('  ', area!.selectionStart, area!.selectionEnd, 'end');
            text = area!.value;
          }}></textarea>
      </div>
      <form
        class="mt-3 flex flex-wrap items-end gap-2"
        onsubmit={(e) => {
          e.preventDefault();
          void apply();
        }}
      >
        <div class="min-w-0 grow">
          <Label for="reason" class="text-ink">Why the rules change</Label>
          <Input id="reason" size="sm" bind:value={reason} required minlength={3} maxlength={500} />
        </div>
        <Button type="submit" size="sm" disabled={!tried || findings.length > 0 || !changed}>Apply</Button>
      </form>
      {#if tried && tried.second_by.length > 0 && changed}
        <p class="mt-2 text-sm text-ochre">
          It loosens: one of {tried.second_by.join(', ')}, other than you, has to agree before it is in force.
        </p>
      {/if}
      <p class="mt-2 text-sm text-teal" aria-live="polite">{told ?? ''}</p>
    </Panel>

    <div class="min-w-0">
      <Panel title="What is wrong with it" note="as you type">
        {#if tried && findings.length + tried.advice.length === 0}
          <p><Mark state="met" /> Nothing found.</p>
        {:else}
          <Findings {findings} advice={tried?.advice ?? []} {show} />
        {/if}
      </Panel>
      {#if tried && findings.length === 0 && changed}
        <Panel title="What it would change" note="tried, not applied">
          <Differences differences={tried.differences} />
          {#each tried.branches as b (b.repository + b.branch)}
            <h3 class="mt-3 text-sm font-semibold">
              {#if b.branch}<span class="font-mono">{b.branch}</span>{:else}Areas, tags, checks and labels{/if} of
              <span class="font-mono">{b.repository}</span>
            </h3>
            <ul class="text-sm">
              {#each b.gone as s (s)}<li class="bg-removed px-1">− {s}</li>{/each}
              {#each b.come as s (s)}<li class="bg-added px-1">+ {s}</li>{/each}
            </ul>
          {/each}
        </Panel>
        {#if tried.queues.length > 0}
          <Panel title="Queues">
            <ul class="divide-y divide-rule text-sm">
              {#each tried.queues as t (t.repository + t.branch)}
                <li class="py-1.5"><b>{t.branch}</b> of {t.repository}, with {t.with}: {t.words}.</li>
              {/each}
            </ul>
          </Panel>
        {/if}
        <Panel title="Open changes" note={count(tried.changes.length, 'change')}>
          <ul class="divide-y divide-rule text-sm">
            {#each tried.changes.filter((c) => c.outcome !== 'unchanged') as c (c.repository + c.number)}
              <li class="py-1.5">
                <Mark state={c.outcome} size={16} />
                {c.outcome === 'different' ? 'as ready as now, for other reasons' : c.outcome}:
                <a class="plain-link" href={`/${c.repository}/changes/${c.number}`}>{c.number}. {c.title}</a>
                {#if c.missing.length > 0}<span class="block text-soft">then: {c.missing.join('; ')}</span>{/if}
                {#if c.dropped.length > 0}<span class="block text-soft">no longer: {c.dropped.join('; ')}</span>{/if}
              </li>
            {:else}
              <li class="py-1.5 text-soft">Every open change stays as it is.</li>
            {/each}
          </ul>
        </Panel>
        <Panel title="The last landings" note={`${tried.landed.length} judged again`}>
          <ul class="divide-y divide-rule text-sm">
            {#each tried.landed.filter((l) => l.stopped) as l (l.repository + l.number)}
              <li class="py-1.5">
                <Mark state="missing" size={16} /> stopped:
                <a class="plain-link" href={`/${l.repository}/changes/${l.number}`}>{l.number}. {l.title}</a>
                <span class="block text-soft">{l.by.join('; ')}</span>
              </li>
            {:else}
              <li class="py-1.5 text-soft">It would have stopped none of them.</li>
            {/each}
          </ul>
        </Panel>
      {/if}
    </div>
  </div>
</Page>
<Confirm bind:open={asking} confirmed={() => void apply()} />
