<script lang="ts">
  let {
    title,
    action,
    value = '',
    onname,
    onclose,
  }: { title: string; action: string; value?: string; onname: (name: string) => void; onclose: () => void } = $props();

  // svelte-ignore state_referenced_locally
  let name = $state(value);
  let dialog: HTMLDialogElement;
  $effect(() => dialog.showModal());
</script>

<dialog bind:this={dialog} class="modal" {onclose} aria-labelledby="name-title">
  <form
    class="modal-box max-w-sm"
    onsubmit={(e) => {
      e.preventDefault();
      onname(name.trim());
    }}
  >
    <h2 id="name-title" class="mb-3 text-lg font-semibold">{title}</h2>
    <label class="label" for="list-name">Name</label>
    <!-- svelte-ignore a11y_autofocus -->
    <input id="list-name" class="input w-full" bind:value={name} required maxlength="80" autofocus autocomplete="off" />
    <div class="modal-action">
      <button type="button" class="btn btn-ghost" onclick={() => dialog.close()}>Cancel</button>
      <button class="btn btn-primary">{action}</button>
    </div>
  </form>
</dialog>
