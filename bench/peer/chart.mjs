// Draws the figures of scripts/bench engine: node chart.mjs ENGINE.json CHART.svg
import { readFileSync, writeFileSync } from 'node:fs';
import { compile } from 'vega-lite';
import { parse, View } from 'vega';

const measured = JSON.parse(readFileSync(process.argv[2], 'utf8'));
const values = measured.queries.map((q) => ({
  title: q.title,
  times: q.times_as_fast,
  least: q.least,
  most: q.most,
  told: `${q.times_as_fast.toFixed(1)}   (${q.ours_ms.toFixed(q.ours_ms < 10 ? 1 : 0)} ms)`,
}));
const y = { field: 'title', type: 'nominal', sort: null, axis: { title: null, labelLimit: 640, ticks: false, domain: false } };
const scale = { type: 'log', domain: [0.8, 100] };
const chart = {
  title: {
    text: `Times as fast as the peer, over ${measured.sessions.toLocaleString('en')} sessions: ${measured.geometric_mean.toFixed(1)} in the geometric mean`,
    anchor: 'start', fontSize: 15, offset: 12,
  },
  background: 'white',
  padding: 12,
  width: 620,
  height: { step: 21 },
  data: { values },
  layer: [
    { mark: { type: 'bar', color: '#3d7a6b', height: 13 }, encoding: { y, x: { field: 'times', type: 'quantitative', scale, axis: { title: null, values: [1, 2, 5, 10, 20, 50, 100], gridColor: '#e4e4e0' } }, x2: { datum: 0.8 } } },
    { mark: { type: 'rule', color: '#1c3a33' }, encoding: { y, x: { field: 'least', type: 'quantitative', scale }, x2: { field: 'most' } } },
    { mark: { type: 'text', align: 'left', dx: 8, fontSize: 11 }, encoding: { y, x: { field: 'most', type: 'quantitative', scale }, text: { field: 'told' } } },
    { mark: { type: 'rule', color: '#b4552d', strokeDash: [4, 3] }, encoding: { x: { datum: 1, type: 'quantitative', scale } } },
  ],
  config: { view: { stroke: null }, axis: { labelFontSize: 12 }, font: 'DejaVu Sans, sans-serif' },
};
const view = new View(parse(compile(chart).spec), { renderer: 'none' });
writeFileSync(process.argv[3], await view.toSVG());
