<script lang="ts">
  import { Button, Input, Label } from 'flowbite-svelte';
  import Page from '../parts/Page.svelte';
  import { signIn } from '../lib/session.svelte';
  let token = $state('');
  let problem = $state<string>();
  let busy = $state(false);

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    try {
      await signIn(token);
    } catch (error) {
      problem = (error as Error).message;
    }
    busy = false;
  }
</script>

<Page
  title="Sign in"
  answer="With a token: an administrator makes one for you, or you make one with another you have."
  {problem}
  command="tavrin token create LOGIN"
>
  <form onsubmit={submit} class="flex max-w-md flex-col gap-3">
    <Label for="token" class="text-ink">Token</Label>
    <Input id="token" type="password" autocomplete="current-password" placeholder="tvr_…" bind:value={token} required />
    <div><Button type="submit" disabled={busy}>Sign in</Button></div>
  </form>
</Page>
