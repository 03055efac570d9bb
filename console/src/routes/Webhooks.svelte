<script lang="ts">
  // What is sent to other systems: the webhooks of a repository, a house or the service, and every delivery.
  import { Button, Input, Label } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import Stamp from '../parts/Stamp.svelte';
  import Mark from '../parts/Mark.svelte';
  import When from '../parts/When.svelte';
  import Try from '../parts/Try.svelte';
  import { answer as answered, api, type Delivery, type Webhook } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { here } from '../lib/router.svelte';
  import { count } from '../lib/words';

  let { house = '', name = '' }: { house?: string; name?: string } = $props();
  const of = $derived(name ? `${house}/${name}` : house);
  const flag = $derived(name ? `--repo ${of}` : house ? `--house ${of}` : '--service');
  const hooks = new Live(() => answered(api.GET('/webhooks', { params: { query: { of: of || undefined } } })));
  let chosen = $state(Number(here().query.get('id')) || 0);
  const one = $derived(hooks.value?.find((h) => h.id === chosen) ?? hooks.value?.[0]);
  const deliveries = new Live(async () =>
    one
      ? answered(api.GET('/webhooks/{id}/deliveries', { params: { path: { id: one.id }, query: { limit: 30 } } }))
      : [],
  );
  $effect(() => follow(hooks));
  $effect(() => {
    void one?.id;
    const end = follow(deliveries);
    // A delivery ends a moment after the event that the page hears of, and nobody tells of it.
    const timer = setInterval(() => void Promise.all([hooks.reload(), deliveries.reload()]), 4000);
    return () => (end(), clearInterval(timer));
  });
  let opened = $state<Delivery>();
  let problem = $state<string>();
  let secret = $state<Webhook>();

  async function act(f: () => Promise<unknown>) {
    problem = undefined;
    try {
      await f();
    } catch (error) {
      problem = (error as Error).message;
    }
    await Promise.all([hooks.reload(), deliveries.reload()]);
  }
  const at = $derived({ params: { path: { id: one?.id ?? 0 } } });

  let made = $state({ name: '', url: '', events: 'check.asked', branches: '', header: '', value: '' });
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const make = () =>
    act(async () => {
      secret = await answered(
        api.POST('/webhooks', {
          body: {
            of: of || undefined,
            name: made.name,
            url: made.url,
            events: words(made.events),
            branches: words(made.branches),
            headers: made.header ? { [made.header]: made.value } : undefined,
          },
        }),
      );
      chosen = secret.id;
      made = { name: '', url: '', events: 'check.asked', branches: '', header: '', value: '' };
    });
  const show = (id: number) =>
    act(async () => (opened = await answered(api.GET('/deliveries/{id}', { params: { path: { id } } }))));
  const answer = $derived.by(() => {
    if (!hooks.value) return undefined;
    if (hooks.value.length === 0) return 'Nothing is sent to other systems yet.';
    const bad = hooks.value.filter((h) => h.off || h.failing_since).length;
    return `${count(hooks.value.length, 'webhook')}${bad ? `, ${bad} of them failing or off` : ', all well'}.`;
  });
  const stands = (h: Webhook) =>
    h.off
      ? `off: ${h.off}`
      : h.failing_since
        ? `failing: ${h.trouble}`
        : h.waiting
          ? `${h.waiting} on their way`
          : 'well';
</script>

<Page
  title={of ? `Webhooks of ${of}` : 'Webhooks of the service'}
  {answer}
  problem={problem ?? hooks.problem ?? deliveries.problem}
  command={`tavrin webhook list ${flag}\ntavrin webhook create NAME --url URL --event KIND ${flag}${one ? `\ntavrin webhook deliveries ${one.id}` : ''}`}
>
  {#if secret?.secret}
    <div role="status" class="mb-6 rounded-lg border border-teal bg-panel p-4">
      <p>Deliveries of <b>{secret.name}</b> are signed with this secret. It is shown this once:</p>
      <pre class="mt-2 overflow-x-auto font-mono text-sm">{secret.secret}</pre>
      <Button class="mt-3" size="xs" color="alternative" onclick={() => (secret = undefined)}>I have kept it</Button>
    </div>
  {/if}
  {#if hooks.value && hooks.value.length > 0}
    <Panel title="Webhooks" note="choose one to see its deliveries below">
      <ul class="divide-y divide-rule">
        {#each hooks.value as h (h.id)}
          <li class="grid gap-x-4 gap-y-1 py-2 text-sm sm:grid-cols-[minmax(8rem,12rem)_1fr_minmax(8rem,16rem)]">
            <button
              type="button"
              class="cursor-pointer text-left hover:underline"
              class:font-bold={h.id === one?.id}
              aria-pressed={h.id === one?.id}
              onclick={() => ((chosen = h.id), (opened = undefined))}>{h.name}</button
            >
            <span class="min-w-0">
              <span class="block break-words"
                >{h.events.join(', ')}{h.branches.length ? ` on ${h.branches.join(', ')}` : ''}</span
              >
              <span class="block font-mono text-xs break-all text-soft">{h.url}</span>
            </span>
            <span class="min-w-0 break-words">
              <Mark state={h.off ? 'none' : h.failing_since || h.parked ? 'missing' : h.waiting ? 'pending' : 'met'} />
              {stands(h)}{h.parked ? `; ${h.parked} given up` : ''}
            </span>
          </li>
        {/each}
      </ul>
    </Panel>
  {/if}
  {#if one}
    <Panel title={`Deliveries of ${one.name}`} note="newest first, kept for 14 days">
      <p class="mb-3 flex flex-wrap gap-2">
        <Button
          size="xs"
          onclick={() => act(async () => (opened = await answered(api.POST('/webhooks/{id}/test', at))))}
          >Send a test</Button
        >
        <Button
          size="xs"
          color="alternative"
          onclick={() => act(() => answered(api.PATCH('/webhooks/{id}', { ...at, body: { off: !one.off } })))}
          >{one.off ? 'Switch on' : 'Switch off'}</Button
        >
        <Button
          size="xs"
          color="alternative"
          onclick={() =>
            act(async () => (secret = await answered(api.POST('/webhooks/{id}/secret', { ...at, body: {} }))))}
          >New secret</Button
        >
        <Button
          size="xs"
          color="alternative"
          onclick={() =>
            confirm(`Delete webhook ${one.name}? What waits is not sent.`) &&
            act(() => answered(api.DELETE('/webhooks/{id}', at)))}>Delete</Button
        >
      </p>
      {#if opened && opened.webhook === one.id}<Try delivery={opened} close={() => (opened = undefined)} />{/if}
      <ul class="divide-y divide-rule">
        {#each deliveries.value ?? [] as d (d.id)}
          <li class="grid gap-x-4 py-1.5 text-sm sm:grid-cols-[7rem_10rem_1fr_auto]">
            <Stamp state={d.state} />
            <span class="font-mono">{d.kind}{d.event ? '' : ' (test)'}</span>
            <span class="min-w-0 break-words text-soft"
              >{d.text ?? ''}{d.state !== 'delivered' && d.error ? `; ${d.error}` : ''}{d.attempts > 1
                ? `; ${d.attempts} tries`
                : ''}</span
            >
            <span class="flex items-baseline gap-3 text-soft">
              <button type="button" class="plain-link cursor-pointer" onclick={() => show(d.id)}
                >look<span class="sr-only"> at delivery {d.id}</span></button
              >
              {#if d.event && d.state !== 'waiting'}<button
                  type="button"
                  class="plain-link cursor-pointer"
                  onclick={() =>
                    act(() => answered(api.POST('/deliveries/{id}/again', { params: { path: { id: d.id } } })))}
                  >send again<span class="sr-only"> delivery {d.id}</span></button
                >{/if}
              <When time={d.created_at} />
            </span>
          </li>
        {:else}
          <li class="py-2 text-sm text-soft">Nothing was sent yet. A test shows what an event looks like.</li>
        {/each}
      </ul>
    </Panel>
  {/if}
  <Panel title="Another webhook" note="to a destination that the administrator allows">
    <form
      class="grid max-w-2xl gap-3 sm:grid-cols-2"
      onsubmit={(e) => {
        e.preventDefault();
        void make();
      }}
    >
      <div>
        <Label for="name" class="text-ink">Name</Label><Input id="name" size="sm" bind:value={made.name} required />
      </div>
      <div>
        <Label for="events" class="text-ink">Events, kinds or globs</Label><Input
          id="events"
          size="sm"
          class="font-mono"
          bind:value={made.events}
          required
        />
      </div>
      <div class="sm:col-span-2">
        <Label for="url" class="text-ink">Address</Label><Input
          id="url"
          size="sm"
          class="font-mono"
          placeholder="https://builds.example/hooks"
          bind:value={made.url}
          required
        />
      </div>
      <div class="sm:col-span-2">
        <Label for="branches" class="text-ink">Only about these branches (globs; empty: all)</Label><Input
          id="branches"
          size="sm"
          class="font-mono"
          bind:value={made.branches}
        />
      </div>
      <div>
        <Label for="header" class="text-ink">A further header</Label><Input
          id="header"
          size="sm"
          class="font-mono"
          placeholder="Authorization"
          bind:value={made.header}
        />
      </div>
      <div>
        <Label for="value" class="text-ink">Its value, not shown again</Label><Input
          id="value"
          size="sm"
          type="password"
          autocomplete="off"
          bind:value={made.value}
        />
      </div>
      <div><Button type="submit" size="sm">Make it</Button></div>
    </form>
  </Panel>
</Page>
