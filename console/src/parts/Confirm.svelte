<script lang="ts">
  // Asks for a token again before rules are changed: who sits at the screen now may not be who signed in.
  import { Button, Input, Label, Modal } from 'flowbite-svelte';
  import { answer, api } from '../lib/api';
  let { open = $bindable(false), confirmed }: { open: boolean; confirmed: () => void } = $props();
  let token = $state('');
  let problem = $state<string>();
  async function submit(event: SubmitEvent) {
    event.preventDefault();
    problem = undefined;
    try {
      await answer(api.POST('/session/confirmation', { body: { token: token.trim() } }));
      open = false;
      token = '';
      confirmed();
    } catch (error) {
      problem = (error as Error).message;
    }
  }
</script>

<Modal title="Confirm who you are" bind:open size="sm">
  <form onsubmit={submit} class="flex flex-col gap-3 text-ink">
    <p>Rules and access are changed only within ten minutes of showing the token again that you signed in with.</p>
    <Label for="again" class="text-ink">Token</Label>
    <Input id="again" type="password" autocomplete="current-password" placeholder="tvr_…" bind:value={token} required />
    {#if problem}<p role="alert" class="text-rust">{problem}</p>{/if}
    <div><Button type="submit" size="sm">Confirm</Button></div>
  </form>
</Modal>
