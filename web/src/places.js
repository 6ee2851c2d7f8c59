/** What has a place in a run: bodies of its scene, or pairs of channels called x and y. {name, x, y, size, before} each. */
export function placesOf(run) {
  const found = [];
  for (const [name, { size, before }] of Object.entries(run.scene.bodies ?? {})) {
    if (run.has(`${name}.x`) && run.has(`${name}.y`)) {
      found.push({ name, x: `${name}.x`, y: `${name}.y`, size, before });
    }
  }
  if (found.length || run.scene.boxes) return found;
  for (const { name, kind } of run.columns) {
    if (kind !== 'number' || !/(^|\.)x$/.test(name)) continue;
    const y = name.replace(/x$/, 'y');
    if (run.kindOf(y) === 'number') {
      const title = name.replace(/\.?x$/, '') || 'x, y';
      found.push({ name: title, x: name, y, size: [0, 0], before: [0, 0] });
    }
  }
  return found;
}

/** The box of a place in a row, [low x, low y, high x, high y]; null where it is nowhere. */
export function boxOf(run, place, row) {
  const at = Math.min(row, run.rows - 1);
  const x = run.values(place.x)[at] - place.before[0];
  const y = run.values(place.y)[at] - place.before[1];
  if (!Number.isFinite(x) || !Number.isFinite(y)) return null;
  // What stands in a free slot of a pool is not there.
  const slot = `${place.name.replace(/\.[^.]*$/, '')}.present`;
  if (run.has(slot) && !run.values(slot)[at]) return null;
  return [x, y, x + place.size[0], y + place.size[1]];
}

/** A box that moves by itself, of the scene: its corners in a row. */
export function moverBox(run, name, row, size) {
  const at = Math.min(row, run.rows - 1);
  const [x, y] = [run.values(`${name}.x`)[at], run.values(`${name}.y`)[at]];
  const [width, height] = size ?? [run.values(`${name}.width`)[at], run.values(`${name}.height`)[at]];
  return [x, y, x + width, y + height];
}

/** From where to where a run goes: [low x, low y, high x, high y] around the way of a place, as far as its level or near it. */
export function extentOf(run, place) {
  const [w, h] = place.size;
  const [lowX, highX] = range(run.values(place.x).subarray(0, run.rows), run.scene.boxes, 0);
  const [lowY, highY] = range(run.values(place.y).subarray(0, run.rows), run.scene.boxes, 1);
  const margin = Math.max(0.04 * (highX - lowX), 2 * Math.max(w, h), 1);
  return [lowX - margin, lowY - margin, highX + w + margin, highY + h + margin];
}

function range(values, boxes, axis) {
  let [low, high] = [-Infinity, Infinity];
  if (boxes?.length) {
    low = Math.min(...boxes.map((box) => box[0][axis]));
    high = Math.max(...boxes.map((box) => box[1][axis]));
    const margin = Math.max(60, (high - low) / 2);
    [low, high] = [low - margin, high + margin];
  }
  let [least, most] = [Infinity, -Infinity];
  for (const value of values) {
    if (value < low || value > high) continue;
    if (value < least) least = value;
    if (value > most) most = value;
  }
  return least <= most ? [least, most] : [0, 1];
}
