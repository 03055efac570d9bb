<script lang="ts">
  import { Button } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import Panel from '../parts/Panel.svelte';
  import When from '../parts/When.svelte';
  import { answer as answered, api, repoNamed, type Following } from '../lib/api';
  import { follow, Live } from '../lib/live.svelte';
  import { count } from '../lib/words';

  const notifications = new Live(() => answered(api.GET('/notifications', { params: { query: { limit: 200 } } })));
  const following = new Live(
    () => answered(api.GET('/following')),
    () => ({ kinds: [] }),
  );
  $effect(() => follow(notifications, following));
  const answer = $derived(
    notifications.value &&
      (notifications.value.new === 0
        ? 'You have seen everything that others did to what you follow or have a part in.'
        : `${count(notifications.value.new, 'thing')} happened since you last looked.`),
  );
  let feed = $state<string>();
  let problem = $state<string>();
  async function act(f: () => Promise<unknown>) {
    problem = undefined;
    try {
      await f();
    } catch (error) {
      problem = (error as Error).message;
    }
    await Promise.all([notifications.reload(), following.reload()]);
  }
  const hear = (f: Following) => {
    const [path, body] = [repoNamed(f.repository), { follow: f.muted }];
    return f.number
      ? answered(
          api.PUT('/repositories/{house}/{name}/changes/{number}/follow', {
            params: { path: { ...path, number: f.number } },
            body,
          }),
        )
      : answered(api.PUT('/repositories/{house}/{name}/follow', { params: { path }, body }));
  };
  const seen = () =>
    act(() => answered(api.PUT('/notifications/seen', { body: { seq: notifications.value!.notifications[0]!.seq } })));
</script>

<Page
  title="Notifications"
  {answer}
  problem={problem ?? notifications.problem}
  command={['tavrin notifications', 'tavrin digest --since 24h', 'tavrin feed'].join('\n')}
>
  {#if notifications.value?.new}<Button class="mb-4" size="sm" onclick={seen}>Mark all as read</Button>{/if}
  {#if notifications.value}
    <ul class="mb-6 divide-y divide-rule rounded-lg border border-rule bg-panel">
      {#each notifications.value.notifications as n (n.seq)}
        <li class="grid gap-x-4 px-4 py-2 sm:grid-cols-[4rem_1fr_auto]">
          <span class="text-sm font-medium text-teal">{n.new ? 'new' : ''}</span>
          <span class="min-w-0 break-words"
            >{n.text}
            {#if n.number}<a class="plain-link block text-sm" href={`/${n.repository}/changes/${n.number}`}
                >{n.number}. {n.title}</a
              >{/if}</span
          >
          <span class="text-sm text-soft"><span class="font-mono">{n.repository}</span> · <When time={n.at} /></span>
        </li>
      {:else}
        <li class="px-4 py-6">
          Nothing yet. You hear of changes that you open, review or speak of; follow others, or a whole repository, from
          their pages.
        </li>
      {/each}
    </ul>
  {/if}
  <Panel title="What you follow" note="what you have a part in, you follow without this">
    <ul class="divide-y divide-rule text-sm">
      {#each following.value ?? [] as f (f.repository + f.number)}
        <li class="flex flex-wrap gap-x-3 py-1.5">
          <a class="plain-link" href={`/${f.repository}${f.number ? `/changes/${f.number}` : ''}`}
            >{f.repository}{f.number ? `, change ${f.number}` : ''}</a
          >
          {#if f.muted}<span class="text-soft">you unfollowed it</span>{/if}
          <button type="button" class="plain-link cursor-pointer" onclick={() => act(() => hear(f))}
            >{f.muted ? 'Follow' : 'Unfollow'}</button
          >
        </li>
      {:else}<li class="text-soft">{following.value ? 'Nothing.' : 'Loading …'}</li>{/each}
    </ul>
  </Panel>
  <Panel title="As a feed" note="Atom, at a private address">
    {#if feed}
      <p class="mb-2 break-all"><code class="font-mono text-sm">{location.origin}{feed}</code></p>
      <p class="mb-2 text-sm text-soft">
        Whoever knows this address may read your notifications. It is shown only now.
      </p>
    {/if}
    <div class="flex flex-wrap gap-2">
      <Button
        size="sm"
        color="alternative"
        onclick={() => act(async () => (feed = (await answered(api.POST('/me/feed'))).path))}>Make a new address</Button
      >
      <Button
        size="sm"
        color="alternative"
        onclick={() => act(async () => (await answered(api.DELETE('/me/feed')), (feed = undefined)))}
        >Revoke the address</Button
      >
    </div>
  </Panel>
</Page>
