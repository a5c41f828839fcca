<script lang="ts">
  import { dismiss, notes } from '../lib/notes.svelte';
</script>

<div class="toast toast-center z-40 w-full max-w-xl" aria-live="polite">
  {#each notes as note (note.id)}
    <div class="alert items-start border border-base-300 bg-base-200 shadow-md" class:border-error={note.bad}>
      <div class="min-w-0 text-wrap">
        <p class:text-error={note.bad} class="font-semibold">{note.text}</p>
        {#if note.hint}<p class="text-sm">{note.hint}</p>{/if}
      </div>
      <div class="flex gap-1">
        {#if note.undo}
          <button
            class="btn btn-sm btn-primary"
            onclick={() => {
              note.undo?.();
              dismiss(note.id);
            }}>Undo</button
          >
        {/if}
        <button class="btn btn-ghost btn-sm" onclick={() => dismiss(note.id)}>Close</button>
      </div>
    </div>
  {/each}
</div>
