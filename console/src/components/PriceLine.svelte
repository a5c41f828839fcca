<script lang="ts">
  import type { Schemas } from '../lib/api';
  import { grouped } from '../lib/format';

  let { bars, currency, source }: { bars: Schemas['Bar'][]; currency: string; source: string } = $props();

  const width = 320;
  const height = 84;
  const low = $derived(Math.min(...bars.map((b) => b.close)));
  const high = $derived(Math.max(...bars.map((b) => b.close)));
  const points = $derived(
    bars
      .map((b, i) => {
        const x = (i / Math.max(1, bars.length - 1)) * width;
        const y = 4 + (height - 8) * (1 - (b.close - low) / (high - low || 1));
        return `${x.toFixed(1)},${y.toFixed(1)}`;
      })
      .join(' '),
  );
</script>

<figure class="my-2">
  <svg
    viewBox="0 0 {width} {height}"
    class="block h-24 w-full"
    preserveAspectRatio="none"
    role="img"
    aria-label="Closing prices from {bars[0]?.day} to {bars.at(-1)?.day}, between {grouped(low, 2)} and {grouped(
      high,
      2,
    )} {currency}"
  >
    <path
      d="M0 {height - 4}h{width}M0 4h{width}"
      stroke="currentColor"
      stroke-opacity="0.2"
      vector-effect="non-scaling-stroke"
    />
    <polyline
      {points}
      fill="none"
      stroke="var(--color-primary)"
      stroke-width="1.6"
      vector-effect="non-scaling-stroke"
    />
  </svg>
  <figcaption class="quiet flex justify-between text-xs">
    <span>{bars[0]?.day}</span>
    <span>close, {currency}: {grouped(low, 2)} to {grouped(high, 2)} · {source}</span>
    <span>{bars.at(-1)?.day}</span>
  </figcaption>
</figure>
