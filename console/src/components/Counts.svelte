<script lang="ts">
  import type { Schemas } from '../lib/api';
  import { stateNames, type State } from '../lib/format';
  import StateMark from './StateMark.svelte';

  let {
    counts,
    picked = '',
    onpick,
  }: { counts: Schemas['Counts']; picked?: string; onpick?: (state: State | '') => void } = $props();
</script>

<ul class="flex flex-wrap items-center gap-1 text-sm" aria-label="Cells by state">
  {#each stateNames as state (state)}
    <li>
      {#if onpick}
        <button
          class="btn btn-xs {picked === state ? 'btn-neutral' : 'btn-ghost'}"
          aria-pressed={picked === state}
          title="Show only rows with a value that is {state}"
          onclick={() => onpick(picked === state ? '' : state)}
        >
          <StateMark {state} />{counts[state]}
          {state}
        </button>
      {:else}
        <span class="inline-flex items-center gap-1 px-2"><StateMark {state} />{counts[state]} {state}</span>
      {/if}
    </li>
  {/each}
</ul>
