// Draws the figures of scripts/bench engine: node chart.mjs ENGINE.json CHART.svg
import { readFileSync, writeFileSync } from 'node:fs';
import { init } from 'echarts';

const measured = JSON.parse(readFileSync(process.argv[2], 'utf8'));
const queries = measured.queries.slice().reverse();
const least = 0.5;
const height = 90 + 24 * queries.length;
const chart = init(null, null, { renderer: 'svg', ssr: true, width: 1000, height });
chart.setOption({
  animation: false,
  backgroundColor: '#fff',
  title: {
    text: `Times as fast as the peer, over ${measured.over}: ${measured.geometric_mean.toFixed(1)} in the geometric mean`,
    left: 12, top: 8, textStyle: { fontSize: 16 },
  },
  grid: { left: 420, right: 130, top: 44, bottom: 34 },
  xAxis: { type: 'log', min: least, max: 100, splitLine: { lineStyle: { color: '#e4e4e0' } }, minorSplitLine: { show: false } },
  yAxis: { type: 'category', data: queries.map((q) => q.title), axisTick: { show: false }, axisLine: { show: false }, axisLabel: { fontSize: 12, color: '#222' } },
  series: [{
    type: 'bar',
    barWidth: 14,
    itemStyle: { color: '#3d7a6b' },
    data: queries.map((q) => q.times_as_fast),
    label: {
      show: true, position: 'right', color: '#222',
      formatter: ({ dataIndex }) => {
        const q = queries[dataIndex];
        return `${q.times_as_fast.toFixed(1)}   (${q.ours_ms.toFixed(q.ours_ms < 10 ? 1 : 0)} ms)`;
      },
    },
    markLine: { symbol: 'none', silent: true, lineStyle: { color: '#b4552d', type: 'dashed' }, label: { show: false }, data: [{ xAxis: 1 }] },
  }],
});
writeFileSync(process.argv[3], chart.renderToSVGString());
chart.dispose();
process.exit(0);
