<script lang="ts">
  import type { Component } from 'svelte';
  import { Button, Modal } from 'flowbite-svelte';
  import { answer, api } from './lib/api';
  import { follow, Live } from './lib/live.svelte';
  import { go, here, match } from './lib/router.svelte';
  import { session, signOut, whoAmI } from './lib/session.svelte';
  import SignIn from './routes/SignIn.svelte';

  // Each page takes the parameters that its pattern names, and is loaded when it is first looked at.
  type Page = { default: Component<Record<string, string>> };
  const routes = [
    ['', () => import('./routes/Desk.svelte')],
    ['/journal', () => import('./routes/Journal.svelte')],
    ['/notifications', () => import('./routes/Notifications.svelte')],
    ['/houses/:house/rules', () => import('./routes/Rules.svelte')],
    ['/houses/:house/rules/edit', () => import('./routes/RulesEdit.svelte')],
    ['/:house/:name', () => import('./routes/Repository.svelte')],
    ['/:house/:name/changes', () => import('./routes/Changes.svelte')],
    ['/:house/:name/changes/:number', () => import('./routes/Change.svelte')],
    ['/:house/:name/propose', () => import('./routes/Propose.svelte')],
    ['/:house/:name/queue', () => import('./routes/Queue.svelte')],
    ['/:house/:name/queue/numbers', () => import('./routes/Numbers.svelte')],
    ['/:house/:name/queue/forecast', () => import('./routes/Forecast.svelte')],
    ['/:house/:name/queue/decisions', () => import('./routes/Decisions.svelte')],
    ['/:house/:name/files', () => import('./routes/Files.svelte')],
    ['/:house/:name/rules', () => import('./routes/Rules.svelte')],
    ['/:house/:name/rules/edit', () => import('./routes/RulesEdit.svelte')],
    ['/:house/:name/areas', () => import('./routes/Areas.svelte')],
    ['/webhooks', () => import('./routes/Webhooks.svelte')],
    ['/houses/:house/webhooks', () => import('./routes/Webhooks.svelte')],
    ['/:house/:name/webhooks', () => import('./routes/Webhooks.svelte')],
    ['/:house/:name/connect', () => import('./routes/Connect.svelte')],
    ['/:house/:name/journal', () => import('./routes/Journal.svelte')],
  ] as [string, () => Promise<Page>][];

  const found = $derived.by(() => {
    for (const [pattern, page] of routes) {
      const parameters = match(pattern, here().path);
      if (parameters) return { page, parameters };
    }
    return null;
  });
  const repo = $derived(found?.parameters.name ? `${found.parameters.house}/${found.parameters.name}` : '');
  const sections = $derived(
    repo
      ? [
          ['Overview', `/${repo}`, 'o'],
          ['Changes', `/${repo}/changes`, 'c'],
          ['Queue', `/${repo}/queue`, 'q'],
          ['Files', `/${repo}/files`, 'f'],
          ['Rules', `/${repo}/rules`, 'u'],
          ['Areas', `/${repo}/areas`, 'a'],
          ['Journal', `/${repo}/journal`, 'j'],
        ]
      : [],
  );
  const section = $derived('/' + here().path.split('/').slice(1, 4).join('/'));

  let help = $state(false);
  let dark = $state(document.documentElement.classList.contains('dark'));

  function turn() {
    dark = !dark;
    document.documentElement.classList.toggle('dark', dark);
    localStorage.setItem('theme', dark ? 'dark' : 'light');
  }

  function keys(event: KeyboardEvent) {
    const at = event.target as HTMLElement;
    if (event.ctrlKey || event.metaKey || event.altKey || at.closest('input, textarea, select, [role=dialog]')) return;
    if (event.key === '?') help = true;
    else if (event.key === 't') turn();
    else if (event.key === 'r') go('/');
    else if (event.key === 'n') go('/notifications');
    else {
      const s = sections.find((x) => x[2] === event.key);
      if (!s) return;
      go(s[1]!);
    }
    event.preventDefault();
  }

  const notifications = new Live(() => answer(api.GET('/notifications', { params: { query: { limit: 1 } } })));
  $effect(() => (session.me ? follow(notifications) : undefined));

  void whoAmI();
</script>

<svelte:window onkeydown={keys} />

<a href="#content" class="sr-only focus:not-sr-only focus:absolute focus:p-2">Skip to the content</a>
<header class="border-b border-rule bg-panel">
  <div class="mx-auto flex max-w-6xl flex-wrap items-center gap-x-4 gap-y-1 px-4 py-2">
    <a href="/" class="flex items-center gap-2 text-lg font-semibold">
      <img src="/mark.svg" alt="" class="h-7 w-7" />Tavrin
    </a>
    {#if repo}<a href={`/${repo}`} class="font-mono text-sm break-all">{repo}</a>{/if}
    <span class="grow"></span>
    {#if session.me}
      <a href="/notifications" class="text-sm hover:underline"
        >Notifications{#if notifications.value?.new}
          <span class="ml-1 rounded bg-teal px-1.5 text-xs text-sheet"
            >{notifications.value.new}<span class="sr-only"> new</span></span
          >{/if}</a
      >
      <a href="/journal" class="text-sm hover:underline">Journal</a>
      <span class="text-sm text-soft">{session.me.name}</span>
      <Button size="xs" color="alternative" onclick={signOut}>Sign out</Button>
    {/if}
    <Button size="xs" color="alternative" onclick={turn} aria-pressed={dark}>{dark ? 'Light' : 'Dark'}</Button>
    <Button size="xs" color="alternative" onclick={() => (help = true)} aria-label="Keys">?</Button>
  </div>
  {#if session.me && sections.length > 0}
    <nav aria-label="Repository" class="mx-auto flex max-w-6xl flex-wrap gap-x-5 gap-y-1 px-4 pb-2 text-sm">
      {#each sections as [name, to] (to)}
        <a
          href={to}
          class="hover:underline"
          class:font-semibold={section === to}
          aria-current={section === to ? 'page' : undefined}>{name}</a
        >
      {/each}
    </nav>
  {/if}
</header>

<main id="content" class="mx-auto max-w-6xl px-4 py-6">
  {#if session.me === undefined}
    <p class="text-soft">Signing you in …</p>
  {:else if session.me === null}
    <SignIn />
  {:else if found}
    {#key here().path}
      {#await found.page()}
        <p class="text-soft" role="status">Loading …</p>
      {:then page}
        <page.default {...found.parameters} />
      {:catch}
        <p role="alert" class="text-rust">
          This page could not be loaded: the service cannot be reached, or there is a newer console. Load it again.
        </p>
      {/await}
    {/key}
  {:else}
    <h1 class="text-2xl font-semibold">There is nothing here</h1>
    <p class="mt-2"><a class="plain-link" href="/">To your desk</a></p>
  {/if}
</main>

<Modal bind:open={help} title="Keys" size="xs">
  <dl class="grid grid-cols-[3rem_1fr] gap-y-1 text-ink">
    {#each [['?', 'this list'], ['t', 'light or dark'], ['r', 'repositories'], ['n', 'notifications'], ['o', 'overview of the repository'], ['c', 'changes'], ['q', 'queue'], ['f', 'files'], ['u', 'rules'], ['a', 'areas'], ['j', 'journal']] as [key, what] (key)}
      <dt class="font-mono">{key}</dt>
      <dd>{what}</dd>
    {/each}
  </dl>
</Modal>
