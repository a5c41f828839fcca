<script lang="ts">
  import { access, useToken } from '../lib/access.svelte';

  let token = $state('');
  let dialog: HTMLDialogElement;
  $effect(() => dialog.showModal());
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="token-title">
  <form
    class="modal-box"
    onsubmit={(e) => {
      e.preventDefault();
      useToken(token.trim());
      location.reload();
    }}
  >
    <h2 id="token-title" class="text-lg font-semibold">This service asks for a token</h2>
    <p class="my-2">
      {access.token ? 'The one given before is not accepted.' : ''} Make one with <code>soba token new</code>.
    </p>
    <label class="label" for="token">Token</label>
    <input id="token" class="input w-full" type="password" autocomplete="off" bind:value={token} required />
    <div class="modal-action"><button class="btn btn-primary">Use it</button></div>
  </form>
</dialog>
