// Draws the figures of the benchmarks beside the peer in one chart: node chart.mjs CHART.svg FIGURES.json...
// Each file is what bench/side_by_side writes; a section each, in the order in which they are named.
import { readFileSync, writeFileSync } from 'node:fs';
import { init } from 'echarts';

const [out, ...files] = process.argv.slice(2);
const sections = files.map((file) => JSON.parse(readFileSync(file, 'utf8')));
const rowHeight = 20;
const gap = 58;
const left = 420;
const width = 1000;
const heightOf = (section) => rowHeight * section.queries.length;
const height = sections.reduce((sum, section) => sum + heightOf(section) + gap, 0) + 30;
const chart = init(null, null, { renderer: 'svg', ssr: true, width, height });

const option = { animation: false, backgroundColor: '#fff', title: [], grid: [], xAxis: [], yAxis: [], series: [] };
let top = 0;
sections.forEach((section, i) => {
  // Of two queries with one title, which are told by their names.
  const queries = section.queries.slice().reverse();
  option.title.push({
    text: `${section.over.replace(/\d{4,}/g, (n) => Number(n).toLocaleString('en'))}: ${section.geometric_mean.toFixed(1)} times as fast as the peer in the geometric mean`,
    left: 12, top: top + 12, textStyle: { fontSize: 15, color: '#222' },
  });
  option.grid.push({ left, right: 130, top: top + gap - 12, height: heightOf(section) });
  option.xAxis.push({
    gridIndex: i, type: 'log', min: 0.5, max: 100, splitLine: { lineStyle: { color: '#e4e4e0' } },
    minorSplitLine: { show: false }, axisLabel: { show: i === sections.length - 1 },
  });
  option.yAxis.push({
    gridIndex: i, type: 'category', data: queries.map((q) => q.title), axisTick: { show: false },
    axisLine: { show: false }, axisLabel: { fontSize: 11.5, color: '#222' },
  });
  option.series.push({
    type: 'bar', xAxisIndex: i, yAxisIndex: i, barWidth: 12,
    data: queries.map((q) => ({ value: q.times_as_fast, itemStyle: { color: q.times_as_fast < 1 ? '#b4552d' : '#3d7a6b' } })),
    label: {
      show: true, position: 'right', color: '#222', fontSize: 11,
      formatter: ({ dataIndex }) => {
        const q = queries[dataIndex];
        return `${q.times_as_fast.toFixed(1)}   (${q.ours_ms.toFixed(q.ours_ms < 10 ? 1 : 0)} ms)`;
      },
    },
    markLine: {
      symbol: 'none', silent: true, lineStyle: { color: '#222', type: 'solid', width: 1 }, label: { show: false },
      data: [{ xAxis: 1 }],
    },
  });
  top += heightOf(section) + gap;
});
chart.setOption(option);
writeFileSync(out, chart.renderToSVGString());
chart.dispose();
process.exit(0);
