<script lang="ts">
  // A small chart of closes: its height is the span between the lowest and the highest.
  let { line, label }: { line: string; label: string } = $props();

  const width = 84;
  const height = 18;
  const numbers = $derived(line.split(' ').map(Number));
  const low = $derived(Math.min(...numbers));
  const high = $derived(Math.max(...numbers));
  const x = $derived((i: number) => 2 + (i / Math.max(1, numbers.length - 1)) * (width - 4));
  const y = $derived((v: number) => 2 + (height - 4) * (1 - (v - low) / (high - low || 1)));
  const points = $derived(numbers.map((v, i) => `${x(i).toFixed(1)},${y(v).toFixed(1)}`).join(' '));
</script>

<svg viewBox="0 0 {width} {height}" class="inline-block h-4.5 w-21 align-middle" aria-hidden="true">
  <title>{label}</title>
  <polyline {points} fill="none" stroke="var(--color-primary)" stroke-width="1.2" />
  <circle cx={x(numbers.length - 1)} cy={y(numbers.at(-1) ?? 0)} r="1.7" fill="var(--color-primary)" />
</svg>
