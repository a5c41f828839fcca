<script lang="ts">
  import type { Schemas } from '../lib/api';
  import { grouped } from '../lib/format';

  let { prices }: { prices: Schemas['PriceSeries'] } = $props();

  const width = 320;
  const height = 84;
  const days = $derived(prices.bars.date);
  const closes = $derived((prices.bars.close ?? []).map(Number));
  const low = $derived(Math.min(...closes));
  const high = $derived(Math.max(...closes));
  const points = $derived(
    closes
      .map((close, i) => {
        const x = (i / Math.max(1, closes.length - 1)) * width;
        const y = 4 + (height - 8) * (1 - (close - low) / (high - low || 1));
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
    aria-label="Closing prices from {days[0]} to {days.at(-1)}, between {grouped(low, 2)} and {grouped(
      high,
      2,
    )} {prices.currency}"
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
    <span>{days[0]}</span>
    <span>close, {prices.currency}: {grouped(low, 2)} to {grouped(high, 2)} · {prices.source}</span>
    <span>{days.at(-1)}</span>
  </figcaption>
</figure>
