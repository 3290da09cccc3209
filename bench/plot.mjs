// Draws the growth curves of a benchmark run: node bench/plot.mjs bench/results.json docs/growth.svg
import { readFileSync, writeFileSync } from 'node:fs';
import { init } from 'echarts';

const [from, to] = process.argv.slice(2);
const { growth } = JSON.parse(readFileSync(from, 'utf8'));
const green = '#1f5d3a';
const ember = '#d9482b';
const graphite = '#22262a';
const text = { color: graphite, fontFamily: 'sans-serif' };
const points = (key) => growth.map((row) => [row.size, Number(row[key].toFixed(1))]);
/** Two lines of ours and a dashed one of the yardstick. */
const panel = (title, scale, names) => ({
  title,
  scale,
  lines: Object.entries(names).map(([key, name], at) => ({
    name,
    key,
    color: [green, ember, graphite][at],
    type: at === 2 ? 'dashed' : 'solid',
  })),
});
const panels = [
  panel('start to the last byte of the application piece, ms', 'log', {
    cold: 'cold start',
    warm: 'warm start',
    translate: 'reading and translating',
  }),
  panel('save, ms', 'value', {
    applied: 'to applied in Chromium',
    message: 'to the update message',
    bare: 'watch, read, translate, send',
  }),
];
const chart = init(null, null, { renderer: 'svg', ssr: true, width: 1200, height: 520 });
chart.setOption({
  backgroundColor: '#f7f4ec',
  animation: false,
  title: panels.map(({ title }, at) => ({
    text: title,
    left: at === 0 ? 60 : 660,
    top: 16,
    textStyle: { ...text, fontSize: 16 },
  })),
  grid: panels.map((_, at) => ({ left: at === 0 ? 60 : 660, width: 480, top: 90, bottom: 60 })),
  xAxis: panels.map((_, at) => ({
    gridIndex: at,
    type: 'log',
    name: 'modules',
    nameLocation: 'middle',
    nameGap: 32,
    min: 100,
    max: growth.at(-1).size,
    axisLabel: text,
    nameTextStyle: text,
  })),
  yAxis: panels.map(({ scale }, at) => ({
    gridIndex: at,
    type: scale,
    axisLabel: text,
    ...(scale === 'value' ? { min: 0 } : {}),
  })),
  legend: panels.map(({ lines }, at) => ({
    data: lines.map(({ name }) => name),
    left: at === 0 ? 60 : 660,
    top: 46,
    textStyle: text,
  })),
  series: panels.flatMap(({ lines }, at) =>
    lines.map(({ name, key, color, type }) => ({
      name,
      type: 'line',
      xAxisIndex: at,
      yAxisIndex: at,
      data: points(key),
      symbolSize: 7,
      itemStyle: { color },
      lineStyle: { color, type, width: 2.5 },
    })),
  ),
});
writeFileSync(to, chart.renderToSVGString());
chart.dispose();
