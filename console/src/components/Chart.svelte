<script lang="ts">
  import { init, type ECharts, type EChartsCoreOption } from '../lib/charts';

  let {
    option,
    label,
    height = 'h-64',
  }: {
    option: EChartsCoreOption;
    label: string;
    height?: string;
  } = $props();

  let place: HTMLDivElement;
  let chart = $state.raw<ECharts | null>(null);

  $effect(() => {
    const drawn = init(place, null, { renderer: 'svg' });
    chart = drawn;
    const observer = new ResizeObserver(() => drawn.resize());
    observer.observe(place);
    return () => {
      observer.disconnect();
      drawn.dispose();
    };
  });

  $effect(() => chart?.setOption(option, { notMerge: true }));
</script>

<div bind:this={place} role="img" aria-label={label} class="w-full {height}"></div>
