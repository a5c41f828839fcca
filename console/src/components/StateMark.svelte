<script lang="ts">
  import type { State } from '../lib/format';

  // The disc fills with trust: full is fresh, half is stale, dotted is on its
  // way, empty is missing. The shape alone carries the meaning.
  let { state, title = state }: { state: State; title?: string } = $props();
</script>

<svg
  viewBox="0 0 12 12"
  class="mark inline-block size-[0.72em] shrink-0"
  class:stale={state === 'stale'}
  role="img"
  aria-label={title}
>
  <title>{title}</title>
  <circle
    cx="6"
    cy="6"
    r="4.75"
    fill={state === 'fresh' ? 'currentColor' : 'none'}
    stroke="currentColor"
    stroke-width="1.5"
    stroke-dasharray={state === 'pending' ? '1.5 1.48' : undefined}
  />
  {#if state === 'stale'}<path d="M6 1.25a4.75 4.75 0 0 0 0 9.5z" fill="currentColor" />{/if}
</svg>

<style>
  .stale {
    color: var(--color-warning);
  }
</style>
