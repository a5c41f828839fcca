<script lang="ts">
  import { world } from '../lib/world.svelte';

  let {
    columns,
    onchoose,
    onclose,
  }: { columns: string[]; onchoose: (columns: string[]) => void; onclose: () => void } = $props();

  // svelte-ignore state_referenced_locally
  let chosen: string[] = $state([...columns]);
  let query = $state('');
  let dialog: HTMLDialogElement;
  $effect(() => dialog.showModal());

  const found = $derived(
    world.fields.filter((f) =>
      query
        .toLowerCase()
        .split(/\s+/)
        .every((w) => `${f.id} ${f.label} ${f.definition}`.toLowerCase().includes(w)),
    ),
  );
  const groups = $derived([...new Set(found.map((f) => f.id.split('.')[0] ?? ''))]);

  function toggle(id: string) {
    chosen = chosen.includes(id) ? chosen.filter((c) => c !== id) : [...chosen, id];
  }
</script>

<dialog bind:this={dialog} class="modal" {onclose} aria-labelledby="columns-title">
  <div class="modal-box flex max-h-[85dvh] max-w-3xl flex-col">
    <h2 id="columns-title" class="text-lg font-semibold">Columns</h2>
    <input
      class="input input-sm my-2 w-full shrink-0"
      type="search"
      placeholder="Search fields"
      aria-label="Search fields"
      bind:value={query}
    />
    <div class="min-h-0 flex-1 overflow-auto">
      {#each groups as group (group)}
        <h3 class="mt-2 font-semibold">{group}</h3>
        {#each found.filter((f) => f.id.startsWith(`${group}.`)) as f (f.id)}
          <label class="grid cursor-pointer grid-cols-[1.5rem_11rem_1fr] items-baseline gap-1 py-0.5 hover:bg-base-200">
            <input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked={chosen.includes(f.id)}
              onchange={() => toggle(f.id)}
            />
            <span>{f.label} <span class="quiet text-xs">{f.unit}</span></span>
            <span class="quiet text-sm">{f.definition}</span>
          </label>
        {/each}
      {:else}
        <p class="quiet p-4">No field has all of these words in its name or definition.</p>
      {/each}
    </div>
    <div class="modal-action items-center">
      <span class="mr-auto text-sm">{chosen.length} chosen, shown in the order in which they are ticked</span>
      <button class="btn btn-ghost" onclick={() => dialog.close()}>Cancel</button>
      <button class="btn btn-primary" disabled={!chosen.length} onclick={() => onchoose(chosen)}>Show them</button>
    </div>
  </div>
</dialog>
