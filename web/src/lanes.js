// Lanes on the one time axis, on a canvas: states, flags, timers, inputs, events; the axis in frames and seconds above them.
import { onColour, palette, stateColour } from './colours.js';

export const GUTTER = 168;
export const LANE = 19;
export const AXIS = 32;
const INPUT = 13;

/** How high each lane is. */
export function laneHeights(run, lanes) {
  return lanes.map(([kind]) => (kind === 'inputs' ? Math.max(LANE, usedInputs(run).length * INPUT + 4) : LANE));
}

/** The actions that are pressed at all. */
export function usedInputs(run) {
  return run.inputs.map((one) => one.name).filter((name) => run.input(name).subarray(0, run.rows).some((value) => value));
}

/** Where a row stands between the gutter and the right edge, and back. */
export function rowScale(width, [from, to]) {
  const wide = (width - GUTTER) / Math.max(to - from, 1);
  return {
    wide,
    x: (row) => GUTTER + (row - from) * wide,
    row: (x) => Math.floor(from + (x - GUTTER) / wide),
  };
}

/** Draws the axis and all lanes over the rows from `range[0]` up to, not including, `range[1]`. */
export function drawLanes(canvas, run, lanes, range, marks) {
  const ratio = window.devicePixelRatio || 1;
  const [width, height] = [canvas.clientWidth, canvas.clientHeight];
  Object.assign(canvas, { width: Math.round(width * ratio), height: Math.round(height * ratio) });
  const context = canvas.getContext('2d');
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, width, height);
  const pen = { context, colours: palette(), scale: rowScale(width, range), range, width };
  drawAxis(pen, run, marks);
  context.save();
  context.beginPath();
  context.rect(GUTTER, 0, width - GUTTER, height);
  context.clip();
  let top = AXIS;
  laneHeights(run, lanes).forEach((tall, n) => {
    const [kind, name] = lanes[n];
    context.strokeStyle = pen.colours.rule;
    context.lineWidth = 1;
    context.strokeRect(GUTTER - 1, top + tall - 0.5, width, 0);
    if (kind === 'state') drawStates(pen, run, name, top, tall);
    else if (kind === 'flag') drawBars(pen, run.values(name), top + 4, tall - 8, pen.colours.line);
    else if (kind === 'timer') drawTimer(pen, run, name, top, tall);
    else if (kind === 'inputs') drawInputs(pen, run, top);
    else drawEvents(pen, run, name, top, tall);
    top += tall;
  });
  context.restore();
}

function drawAxis({ context, colours, scale, range, width }, run, marks) {
  context.font = '10px system-ui, sans-serif';
  context.fillStyle = colours.quiet;
  context.textAlign = 'center';
  const step = niceStep(70 / scale.wide);
  for (let row = Math.ceil(range[0] / step) * step; row < range[1]; row += step) {
    const x = scale.x(row + 0.5);
    if (x > width - 14) break;
    context.fillText(String(row), x, 10);
    if (run.rate) context.fillText(`${Number((row / run.rate).toFixed(3))} s`, x, 21);
    context.fillRect(x - 0.5, 24, 1, 4);
  }
  context.textAlign = 'left';
  for (const { row, kind } of marks) {
    if (row < range[0] || row >= range[1]) continue;
    const x = scale.x(row + 0.5);
    context.fillStyle = kind === 'breach' ? colours.breach : colours.other;
    context.beginPath();
    // A breach points down, a divergence is a square, what is odd a lozenge: told apart without their colours.
    if (kind === 'breach') [[-4, 24], [4, 24], [0, 32]].forEach(([dx, y], n) => (n ? context.lineTo(x + dx, y) : context.moveTo(x + dx, y)));
    else if (kind === 'divergence') context.rect(x - 3, 25, 6, 6);
    else [[0, 24], [4, 28], [0, 32], [-4, 28]].forEach(([dx, y], n) => (n ? context.lineTo(x + dx, y) : context.moveTo(x + dx, y)));
    context.fill();
  }
}

/** 1, 2 or 5 times a power of ten, at least `least`. */
function niceStep(least) {
  const power = 10 ** Math.floor(Math.log10(Math.max(least, 1)));
  return [1, 2, 5, 10].map((n) => n * power).find((step) => step >= least) ?? 10 * power;
}

/** Calls back with each stretch of equal values in the range: (value, first, stop). */
function eachStretch(values, [from, to], told) {
  const stop = Math.min(to, values.length);
  let first = Math.max(from, 0);
  for (let row = first + 1; row <= stop; row++) {
    if (row === stop || values[row] !== values[first]) {
      told(values[first], first, row);
      first = row;
    }
  }
}

function drawStates({ context, scale, range }, run, name, top, tall) {
  const [values, labels] = [run.values(name), run.labelsOf(name)];
  context.font = '11px system-ui, sans-serif';
  const crowded = scale.wide < 1;
  if (crowded) drawShares(context, values, scale, range, run.rows, top, tall);
  eachStretch(values, [range[0], Math.min(range[1], run.rows)], (code, first, stop) => {
    const [left, wide] = [scale.x(first), (stop - first) * scale.wide];
    const colour = stateColour(code);
    if (!crowded) {
      context.fillStyle = colour;
      context.fillRect(left, top + 2, Math.max(wide - (wide > 3 ? 1 : 0), 1), tall - 5);
    } else if (wide < 20) return;
    const label = labels[code] ?? '';
    // The word stands where it can be seen, though the stretch begins left of the picture.
    const shown = Math.max(left, GUTTER);
    if (context.measureText(label).width + 6 < left + wide - shown) {
      context.fillStyle = onColour(colour);
      context.fillText(label, shown + 3, top + tall - 6);
    }
  });
}

/** More rows than pixels: each pixel has all states of its rows, one under the other, so that what flickers looks it. */
function drawShares(context, values, scale, [from, to], rows, top, tall) {
  const stop = Math.min(to, rows);
  for (let x = GUTTER; x < scale.x(stop); x++) {
    const first = Math.max(scale.row(x), 0);
    const seen = new Set(values.subarray(first, Math.max(first + 1, Math.min(scale.row(x + 1), stop))));
    let at = top + 2;
    for (const code of seen) {
      context.fillStyle = stateColour(code);
      context.fillRect(x, at, 1, (tall - 5) / seen.size);
      at += (tall - 5) / seen.size;
    }
  }
}

function drawBars({ context, scale, range }, values, top, tall, colour) {
  context.fillStyle = colour;
  eachStretch(values, range, (value, first, stop) => {
    if (value) context.fillRect(scale.x(first), top, Math.max((stop - first) * scale.wide, 1), tall);
  });
}

function drawTimer({ context, scale, range }, run, name, top, tall) {
  const values = run.values(name);
  let most = 0;
  for (let row = 0; row < run.rows; row++) if (values[row] > most) most = values[row];
  context.fillStyle = stateColour(4);
  const stop = Math.min(range[1], run.rows);
  for (let row = Math.max(range[0], 0); row < stop; ) {
    const next = Math.max(row + 1, Math.min(scale.row(scale.x(row) + 1), stop));
    let value = 0;
    for (let k = row; k < next; k++) if (values[k] > value) value = values[k];
    const high = ((tall - 5) * value) / (most || 1);
    // Whole pixels, or each edge between two rows would show as a faint line.
    const [left, right] = [Math.round(scale.x(row)), Math.round(scale.x(next))];
    if (high > 0) context.fillRect(left, top + tall - 3 - high, Math.max(right - left, 1), high);
    row = next;
  }
}

function drawInputs(pen, run, top) {
  usedInputs(run).forEach((name, n) => {
    const values = run.input(name).map((value) => (Math.abs(value) >= 0.5 ? 1 : 0));
    drawBars(pen, values.subarray(0, run.rows), top + 3 + n * INPUT, INPUT - 3, pen.colours.quiet);
  });
}

function drawEvents({ context, colours, scale, range }, run, name, top, tall) {
  context.font = '10px system-ui, sans-serif';
  let free = -Infinity;
  for (const event of run.allEvents()) {
    if (event.name !== name || event.row < range[0] || event.row >= range[1]) continue;
    const x = scale.x(event.row + 0.5);
    context.fillStyle = colours.ink;
    context.fillRect(x - 1, top + 3, 2, tall - 6);
    if (x > free) {
      context.fillStyle = colours.quiet;
      context.fillText(String(event.row), x + 3, top + tall - 6);
      free = x + 10 + 7 * String(event.row).length;
    }
  }
}
