<script lang="ts">
  // Connects a checks system: a token for its robot, what it does to paste, and how far it comes.
  import { Button, Input, Label } from 'flowbite-svelte';
  import Confirm from '../parts/Confirm.svelte';
  import Mark from '../parts/Mark.svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import When from '../parts/When.svelte';
  import { answer as answered, api } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { short } from '../lib/words';

  let { house, name }: { house: string; name: string } = $props();
  const repo = $derived(`${house}/${name}`);
  const at = $derived({ house, name });
  let check = $state(here().query.get('check') ?? '');
  let robot = $state('');
  let url = $state('');
  let script = $state('poll');
  let token = $state<string>();
  let secret = $state<string>();
  let problem = $state<string>();
  let asks = $state(false);
  const names = new Live(
    () => answered(api.GET('/repositories/{house}/{name}/checks', { params: { path: at } })),
    () => ({ repository: repo, kinds: ['rules.', 'check.'] }),
  );
  const snippets = new Live(async () =>
    check
      ? answered(api.GET('/repositories/{house}/{name}/checks/snippets', { params: { path: at, query: { check } } }))
      : [],
  );
  const progress = new Live(
    async () =>
      check
        ? answered(api.GET('/repositories/{house}/{name}/checks/progress', { params: { path: at, query: { check } } }))
        : undefined,
    () => ({ repository: repo }),
  );
  $effect(() => follow(names));
  $effect(() => {
    void check;
    const end = follow(snippets, progress);
    // Nobody tells when a commit is fetched.
    const timer = setInterval(() => void progress.reload(), 2000);
    return () => (end(), clearInterval(timer));
  });
  const paste = $derived(snippets.value?.find((s) => s.name === script));

  async function connect() {
    problem = undefined;
    try {
      const made = await answered(
        api.POST('/repositories/{house}/{name}/checks/connections', {
          params: { path: at },
          body: { check, robot: robot || `reports-${check.toLowerCase().replace(/[^a-z0-9]+/g, '-')}`.slice(0, 38) },
        }),
      );
      token = made.secret;
      if (url) {
        const hook = await answered(
          api.POST('/webhooks', { body: { of: repo, name: `asks for ${check}`, url, events: ['check.asked'] } }),
        );
        secret = hook.secret;
      }
    } catch (error) {
      problem = (error as Error).message;
      if (problem.startsWith('confirm who you are')) asks = true;
    }
  }
  const answer = $derived.by(() => {
    if (!check) return 'Choose the check that a system outside is to answer for.';
    const p = progress.value;
    if (!p) return undefined;
    const missing = p.steps.find((s) => !s.at);
    if (p.steps.at(-1)?.at) return `${check} was answered on ${short(p.commit ?? '')}: ${p.state}.`;
    return missing ? `${check}: not ${missing.name} yet.` : undefined;
  });
</script>

<Page
  title="Connect a check"
  {answer}
  problem={problem ?? names.problem ?? snippets.problem ?? progress.problem}
  command={`tavrin check connect ${check || 'NAME'} --repo ${repo}${url ? ` --url ${url}` : ''}\ntavrin check connect ${check || 'NAME'} --repo ${repo} --watch`}
>
  <Panel title="Which check" note="the rules name it, and whoever has its token reports it">
    <form
      class="grid max-w-2xl gap-3 sm:grid-cols-2"
      onsubmit={(e) => {
        e.preventDefault();
        void connect();
      }}
    >
      <div>
        <Label for="check" class="text-ink">Check</Label>
        <Input id="check" size="sm" class="font-mono" list="checks" bind:value={check} required />
        <datalist id="checks"
          >{#each (names.value ?? []).filter((n) => !n.command) as n (n.name)}<option value={n.name}
            ></option>{/each}</datalist
        >
      </div>
      <div>
        <Label for="robot" class="text-ink">Its robot (empty: named after the check)</Label>
        <Input id="robot" size="sm" class="font-mono" bind:value={robot} />
      </div>
      <div class="sm:col-span-2">
        <Label for="url" class="text-ink">Where the system listens (empty: it asks for work itself)</Label>
        <Input id="url" size="sm" class="font-mono" placeholder="https://builds.example/hooks" bind:value={url} />
      </div>
      <div><Button type="submit" size="sm">Make its token</Button></div>
    </form>
    {#if token}
      <div role="status" class="mt-4 rounded-lg border border-teal p-3 text-sm">
        <p>Shown this once; the scripts below take them from the environment:</p>
        <pre class="mt-2 overflow-x-auto font-mono text-xs">export TAVRIN_TOKEN={token}{secret
            ? `\nexport TAVRIN_WEBHOOK_SECRET=${secret}`
            : ''}</pre>
      </div>
    {/if}
  </Panel>
  {#if progress.value}
    <Panel
      title="How far it comes"
      note={progress.value.commit
        ? `attempt ${progress.value.attempt} on ${short(progress.value.commit)}, ${progress.value.asked_for ?? 'asked for by nobody'}`
        : 'nothing yet'}
    >
      <ol class="grid gap-x-4 gap-y-1 text-sm">
        {#each progress.value.steps as s (s.name)}
          <li class="grid gap-x-3 sm:grid-cols-[8rem_1fr_auto]">
            <span
              ><Mark state={s.at ? 'met' : 'missing'} />
              {s.name}<span class="sr-only">{s.at ? ', done' : ', not yet'}</span></span
            >
            <span class="min-w-0 break-words text-soft">{s.text ?? ''}</span>
            <span class="text-soft"
              >{#if s.at}<When time={s.at} />{:else}not yet{/if}</span
            >
          </li>
        {/each}
      </ol>
    </Panel>
  {/if}
  {#if snippets.value && snippets.value.length > 0}
    <Panel title="What the system does" note="ready to paste">
      <p class="mb-2 flex flex-wrap gap-2">
        {#each snippets.value as s (s.name)}
          <Button
            size="xs"
            color="alternative"
            aria-pressed={s.name === script}
            class={s.name === script ? 'border-teal font-semibold' : ''}
            onclick={() => (script = s.name)}>{s.name}</Button
          >
        {/each}
      </p>
      {#if paste}
        <p class="mb-2 text-sm text-soft">{paste.means}</p>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre class="max-h-96 overflow-auto rounded bg-sheet p-3 font-mono text-xs" tabindex="0">{paste.text}</pre>
      {/if}
    </Panel>
  {/if}
</Page>
<Confirm bind:open={asks} confirmed={() => void connect()} />
