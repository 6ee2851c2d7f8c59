// The level at a row, on a canvas: solids, zones, what moves, bodies and their hitboxes, the way so far, and the other run.
import { onColour, palette, stateColour } from './colours.js';
import { boxOf, extentOf, moverBox, placesOf } from './places.js';

/** Draws a run's level at a row. `view` is {near, followed}; `other` a run drawn behind it, or null. */
export function drawLevel(canvas, run, row, other, view) {
  const colours = palette();
  const context = sized(canvas);
  const places = placesOf(run);
  const followed = places.find((place) => place.name === view.followed) ?? places[0];
  if (!followed || !run.rows) return;
  const map = mapping(canvas, run, followed, row, view.near ? (view.reach ?? 9) : 0);
  const pen = new Pen(context, map, colours);
  for (const [low, high, , oneWay] of run.scene.boxes ?? []) pen.solid(low, high, oneWay);
  for (const [name, boxes] of Object.entries(run.scene.zones ?? {})) drawZone(pen, run, name, boxes);
  if (other?.rows) drawPath(pen, other, samePlace(other, followed), other.rows, null, colours.other);
  // All of the way stands back, what was gone by now stands out.
  drawPath(pen, run, followed, run.rows, null, colours.quiet);
  drawPath(pen, run, followed, row, machineOf(run, followed.name));
  drawMovers(pen, run, row);
  if (other?.rows) drawGhosts(pen, other, row);
  for (const place of places) {
    const box = boxOf(run, place, row);
    if (box) pen.body(box, place === followed ? colours.ink : colours.quiet, place.name, place === followed);
  }
  drawAttached(pen, run, row);
  drawFans(pen, run, row);
}

/** Whether a run has anything that could be drawn. */
export const hasLevel = (run) => placesOf(run).length > 0;

function sized(canvas) {
  const ratio = window.devicePixelRatio || 1;
  const [width, height] = [Math.round(canvas.clientWidth * ratio), Math.round(canvas.clientHeight * ratio)];
  if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, { width, height });
  const context = canvas.getContext('2d');
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  context.clearRect(0, 0, canvas.clientWidth, canvas.clientHeight);
  return context;
}

/** From the level's units to the canvas, a unit as long across as up. */
function mapping(canvas, run, followed, row, near) {
  let [lowX, lowY, highX, highY] = extentOf(run, followed);
  const [width, height] = [canvas.clientWidth, canvas.clientHeight];
  if (near) {
    const box = boxOf(run, followed, row) ?? [lowX, lowY, highX, highY];
    const reach = Math.max(box[2] - box[0], box[3] - box[1], (highX - lowX) / 60) * near;
    const [x, y] = [(box[0] + box[2]) / 2, (box[1] + box[3]) / 2];
    [lowX, highX, lowY, highY] = [x - reach, x + reach, y - reach * (height / width), y + reach * (height / width)];
  }
  const unit = Math.min(width / (highX - lowX), height / (highY - lowY));
  const [midX, midY] = [(lowX + highX) / 2, (lowY + highY) / 2];
  const sign = (run.scene.up ?? '+y') === '-y' ? 1 : -1;
  return {
    unit,
    x: (x) => width / 2 + (x - midX) * unit,
    y: (y) => height / 2 + sign * (y - midY) * unit,
  };
}

class Pen {
  constructor(context, map, colours) {
    Object.assign(this, { context, map, colours });
  }

  /** A box on the canvas: left, top, width, height. */
  rect([lowX, lowY, highX, highY]) {
    const { x, y } = this.map;
    return [Math.min(x(lowX), x(highX)), Math.min(y(lowY), y(highY)), Math.abs(x(highX) - x(lowX)), Math.abs(y(highY) - y(lowY))];
  }

  solid(low, high, oneWay) {
    const [left, top, width, height] = this.rect([low[0], low[1], high[0], high[1]]);
    this.context.fillStyle = this.colours.ground;
    this.context.globalAlpha = oneWay ? 0.45 : 1;
    this.context.fillRect(left, top, width, height);
    this.context.globalAlpha = 1;
    this.outline([low[0], low[1], high[0], high[1]], this.colours.edge, oneWay ? [6, 3] : []);
  }

  outline(box, colour, dashes = [], wide = 1) {
    this.context.strokeStyle = colour;
    this.context.lineWidth = wide;
    this.context.setLineDash(dashes);
    this.context.strokeRect(...this.rect(box));
    this.context.setLineDash([]);
  }

  body(box, colour, name, followed) {
    const [left, top, width, height] = this.rect(box);
    if (width < 3 && height < 3) {
      this.context.fillStyle = colour;
      this.context.beginPath();
      this.context.arc(left + width / 2, top + height / 2, followed ? 4 : 3, 0, 2 * Math.PI);
      this.context.fill();
    } else {
      this.context.fillStyle = colour;
      this.context.globalAlpha = followed ? 0.18 : 0.08;
      this.context.fillRect(left, top, width, height);
      this.context.globalAlpha = 1;
      this.outline(box, colour, [], followed ? 2 : 1);
    }
    this.word(name, left + width / 2, top - 5, colour, 'center');
  }

  word(text, left, top, colour, align = 'left') {
    this.context.font = '11px system-ui, sans-serif';
    this.context.textAlign = align;
    this.context.lineWidth = 3;
    this.context.strokeStyle = this.colours.paper;
    this.context.strokeText(text, left, top);
    this.context.fillStyle = colour;
    this.context.fillText(text, left, top);
  }

  line(points, colour, dashes = [], wide = 1.2) {
    this.context.strokeStyle = colour;
    this.context.lineWidth = wide;
    this.context.setLineDash(dashes);
    this.context.beginPath();
    points.forEach(([x, y], n) => (n ? this.context.lineTo(x, y) : this.context.moveTo(x, y)));
    this.context.stroke();
    this.context.setLineDash([]);
  }
}

function drawZone(pen, run, name, boxes) {
  const rounds = run.scene.rounds?.[name];
  boxes.forEach(([low, high], n) => {
    const box = [low[0], low[1], high[0], high[1]];
    if (!rounds) pen.outline(box, pen.colours.zone, [4, 3]);
    const [left, top, , height] = pen.rect(box);
    if (n === 0) pen.word(name, left + 2, top + height + 11, pen.colours.zone);
  });
  for (const [centre, radius] of rounds ?? []) {
    pen.context.strokeStyle = pen.colours.zone;
    pen.context.setLineDash([4, 3]);
    pen.context.beginPath();
    pen.context.arc(pen.map.x(centre[0]), pen.map.y(centre[1]), radius * pen.map.unit, 0, 2 * Math.PI);
    pen.context.stroke();
    pen.context.setLineDash([]);
  }
}

const samePlace = (other, place) => placesOf(other).find((one) => one.name === place.name);

/** The way of a place up to a row: in the colours of a machine's states where there is one, dashed where it is another run's. */
function drawPath(pen, run, place, stop, machine, plain = pen.colours.ink) {
  if (!place) return;
  const [xs, ys] = [run.values(place.x), run.values(place.y)];
  const [w, h] = [place.size[0] / 2 - place.before[0], place.size[1] / 2 - place.before[1]];
  const states = machine ? run.values(machine) : null;
  // Points closer than a pixel would draw the same: a long run is led over the canvas and not over its rows.
  let points = [];
  let last = null;
  const flush = (code) => {
    if (points.length > 1) {
      if (states) pen.line(points, stateColour(code), [], 2.2);
      else if (plain === pen.colours.quiet) pen.line(points, plain, [1, 3], 1);
      else pen.line(points, plain, plain === pen.colours.other ? [5, 4] : [], 1.4);
    }
  };
  let code = states?.[0];
  for (let row = 0; row <= Math.min(stop, run.rows - 1); row++) {
    if (!Number.isFinite(xs[row]) || !Number.isFinite(ys[row])) continue;
    const at = [pen.map.x(xs[row] + w), pen.map.y(ys[row] + h)];
    if (states && states[row] !== code) {
      points.push(at);
      flush(code);
      [points, code] = [[at], states[row]];
      last = at;
      continue;
    }
    if (last && Math.abs(at[0] - last[0]) < 0.7 && Math.abs(at[1] - last[1]) < 0.7) continue;
    points.push(at);
    last = at;
  }
  flush(code ?? 0);
}

/** The machine whose name has most in common with a body's. */
export function machineOf(run, body) {
  const machines = run.lanes.filter(([kind]) => kind === 'state').map(([, name]) => name);
  const common = (name) => {
    const [mine, theirs] = [name.split('.'), body.split('.')];
    const apart = mine.findIndex((word, n) => word !== theirs[n]);
    return apart < 0 ? mine.length : apart;
  };
  return machines.reduce((best, name) => (best === null || common(name) > common(best) ? name : best), null);
}

function drawMovers(pen, run, row) {
  const { scene } = run;
  for (const [name, size] of Object.entries(scene.platforms ?? {})) {
    if (!run.has(`${name}.x`)) continue;
    named(pen, moverBox(run, name, row, size), name, pen.colours.mover);
  }
  for (const name of [...(scene.enclosures ?? []), ...(scene.doors ?? [])]) {
    if (!run.has(`${name}.width`)) continue;
    named(pen, moverBox(run, name, row), name, pen.colours.mover);
  }
}

function named(pen, box, name, colour) {
  pen.outline(box, colour, [], 1.4);
  const [left, top, , height] = pen.rect(box);
  pen.word(name, left + 2, top + height + 11, colour);
}

function drawGhosts(pen, other, row) {
  for (const place of placesOf(other)) {
    const box = boxOf(other, place, row);
    if (box) pen.outline(box, pen.colours.other, [3, 3], 1.4);
  }
}

function drawAttached(pen, run, row) {
  const at = Math.min(row, run.rows - 1);
  for (const [name, strikes] of Object.entries(run.scene.attached ?? {})) {
    if (!run.has(`${name}.x`) || !run.has(`${name}.open`)) continue;
    const box = moverBox(run, name, row);
    const open = run.values(`${name}.open`)[at];
    if (strikes && open) {
      pen.context.fillStyle = pen.colours.breach;
      pen.context.globalAlpha = 0.3;
      pen.context.fillRect(...pen.rect(box));
      pen.context.globalAlpha = 1;
      pen.outline(box, pen.colours.breach, [], 1.4);
    } else if (!strikes) {
      pen.outline(box, pen.colours.line, open ? [] : [2, 3]);
    }
  }
}

function drawFans(pen, run, row) {
  const at = Math.min(row, run.rows - 1);
  const places = new Map(placesOf(run).map((place) => [place.name, place]));
  for (const [name, fan] of Object.entries(run.scene.fans ?? {})) {
    const box = places.has(fan.body) ? boxOf(run, places.get(fan.body), row) : null;
    const along = 'xy'.indexOf(fan.side[1]);
    if (!box || along < 0) continue;
    const sign = fan.side[0] === '+' ? 1 : -1;
    const edge = box[along + (sign > 0 ? 2 : 0)];
    const [low, high] = [box[1 - along] + fan.inset, box[3 - along] - fan.inset];
    for (let n = 0; n < fan.rays; n++) {
      const across = fan.rays === 1 ? (low + high) / 2 : low + ((high - low) * n) / (fan.rays - 1);
      const distance = run.values(`${name}.${n}`)[at];
      const end = edge + sign * Math.min(distance, fan.length);
      const [from, to] = along ? [[across, edge], [across, end]] : [[edge, across], [end, across]];
      pen.line([from, to].map(([x, y]) => [pen.map.x(x), pen.map.y(y)]), pen.colours.zone, [], 1);
    }
  }
}

/** A small square in a state's colour, for words about it. */
export const swatch = (code) => ({ background: stateColour(code), color: onColour(stateColour(code)) });
