<script lang="ts">
  // Where a price stands between the low and the high of its year: a line with a
  // tick, as on a tide staff.
  let { position }: { position: number } = $props();

  const x = $derived(2 + 52 * Math.min(1, Math.max(0, position)));
</script>

<svg viewBox="0 0 56 12" class="inline-block h-3 w-14 align-middle" aria-hidden="true">
  <path d="M2 9.5h52" stroke="currentColor" stroke-opacity="0.45" />
  <path d="M2 6.5v4M28 8v3M54 6.5v4" stroke="currentColor" stroke-opacity="0.45" />
  <path d="M{x} 9.5v-8" stroke="var(--color-primary)" stroke-width="2.4" />
</svg>
