// The parts of the chart library that the console uses, and its colours.
import { BarChart, LineChart } from 'echarts/charts';
import {
  AriaComponent,
  DataZoomComponent,
  GridComponent,
  LegendComponent,
  MarkLineComponent,
  MarkPointComponent,
  TooltipComponent,
} from 'echarts/components';
import { use } from 'echarts/core';
import { SVGRenderer } from 'echarts/renderers';

use([
  BarChart,
  LineChart,
  AriaComponent,
  DataZoomComponent,
  GridComponent,
  LegendComponent,
  MarkLineComponent,
  MarkPointComponent,
  TooltipComponent,
  SVGRenderer,
]);

export { init, type ECharts, type EChartsCoreOption } from 'echarts/core';

/** A colour of the theme by its name, as primary or base-content. */
export function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim();
}

/** What all charts have in common. */
export function base(): Record<string, unknown> {
  const text = colour('base-content');
  const font = getComputedStyle(document.body).fontFamily;
  return {
    animation: false,
    textStyle: { color: text, fontFamily: font },
    tooltip: {
      trigger: 'axis',
      backgroundColor: colour('base-200'),
      borderColor: colour('base-300'),
      textStyle: { color: text, fontFamily: font, fontSize: 12 },
    },
    grid: { left: 8, right: 12, top: 28, bottom: 8, outerBoundsMode: 'same', outerBoundsContain: 'axisLabel' },
  };
}

/** Axes in the tone of the page. */
export function axis(more: Record<string, unknown>): Record<string, unknown> {
  const line = { lineStyle: { color: colour('base-300') } };
  return {
    axisLine: line,
    axisTick: { show: false },
    splitLine: { ...line, show: more.type === 'value' },
    axisLabel: { color: colour('base-content'), fontSize: 11 },
    nameTextStyle: { color: colour('base-content'), fontSize: 11, align: 'left' },
    ...more,
  };
}
