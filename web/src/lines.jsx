import { useEffect, useRef } from 'preact/hooks';
import uPlot from 'uplot';
import { palette } from './colours.js';
import { GUTTER } from './lanes.js';

/** A channel as a line over the rows in range, another run's dashed behind it. */
export function ChannelLine({ run, other, name, range, theme, height, version }) {
  const place = useRef(null);
  const plot = useRef(null);
  useEffect(() => {
    const wide = place.current.clientWidth;
    plot.current = new uPlot(options(run, name, wide, height), dataOf(run, other, name), place.current);
    plot.current.setScale('x', { min: range[0], max: range[1] });
    return () => plot.current.destroy();
  }, [run, other, name, theme, height]);
  useEffect(() => {
    plot.current.setScale('x', { min: range[0], max: range[1] });
  }, [range[0], range[1]]);
  useEffect(() => {
    // Rows that came while a run is played.
    if (!version) return;
    plot.current.setData(dataOf(run, other, name), false);
    plot.current.setScale('x', { min: range[0], max: range[1] });
  }, [version]);
  useEffect(() => {
    const resized = new ResizeObserver(() => plot.current.setSize({ width: place.current.clientWidth, height }));
    resized.observe(place.current);
    return () => resized.disconnect();
  }, [height]);
  return <div class="line" ref={place} />;
}

function dataOf(run, other, name) {
  const rows = Math.max(run.rows, other?.has(name) ? other.rows : 0);
  // A row is drawn in the middle of its place, as in the lanes.
  const x = Float64Array.from({ length: rows }, (_, row) => row + 0.5);
  return [x, drawable(run, name, rows), drawable(other?.has(name) ? other : null, name, rows)];
}

/** A gap is null: what is not finite is not drawn. */
function drawable(run, name, rows) {
  const values = run ? run.values(name) : [];
  const stop = run ? run.rows : 0;
  return Array.from({ length: rows }, (_, row) => (row < stop && Number.isFinite(values[row]) ? values[row] : null));
}

function options(run, name, width, height) {
  const colours = palette();
  const stepped = run.kindOf(name) === 'number' ? undefined : uPlot.paths.stepped({ align: 0 });
  const labels = run.labelsOf(name);
  const grid = { stroke: colours.rule, width: 1 };
  return {
    width,
    height,
    legend: { show: false },
    cursor: { show: false },
    padding: [6, 0, 4, 0],
    scales: { x: { time: false, auto: false }, y: { range: (_, low, high) => roomAround(low, high) } },
    axes: [
      { show: false },
      {
        size: GUTTER,
        stroke: colours.quiet,
        font: '10px system-ui, sans-serif',
        grid,
        ticks: { show: false },
        space: 18,
        gap: 4,
        values: (_, splits) => splits.map((value) => (labels.length ? (labels[value] ?? '') : String(Number(value.toPrecision(6))))),
      },
    ],
    series: [
      {},
      { stroke: colours.line, width: 1.4, points: { show: false }, paths: stepped, pxAlign: 0 },
      { stroke: colours.other, width: 1.2, dash: [5, 4], points: { show: false }, paths: stepped, pxAlign: 0 },
    ],
  };
}

function roomAround(low, high) {
  if (low === null || high === null) return [0, 1];
  const margin = (high - low || Math.abs(high) || 1) * 0.1;
  return [low - margin, high + margin];
}
