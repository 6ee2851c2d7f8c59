// Runs as they come: zlib over a length, JSON, and the columns' bytes (views/page/packing.py says how).

/** The runs of packed bytes, and what stands beside them. */
export async function unpack(bytes) {
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream('deflate'));
  const whole = new Uint8Array(await new Response(stream).arrayBuffer());
  const length = new DataView(whole.buffer, whole.byteOffset).getUint32(0, true);
  const described = JSON.parse(new TextDecoder().decode(whole.subarray(4, 4 + length)));
  return { described, columns: whole.subarray(4 + length) };
}

/** The values of a described column, bit by bit what was packed. */
export function valuesOf(column, bytes) {
  if (column.code === 'same') return new Float64Array(column.rows).fill(column.value);
  if (column.code === 'steps') return fromSteps(column, bytes);
  return fromBits(column, bytes);
}

function fromSteps({ width, from, rows }, bytes) {
  const values = new Float64Array(rows);
  let value = 0;
  for (let row = 0; row < rows; row++) {
    let folded = 0;
    for (let plane = width - 1; plane >= 0; plane--) folded = folded * 256 + bytes[from + plane * rows + row];
    value += folded % 2 ? -(folded + 1) / 2 : folded / 2;
    values[row] = value;
  }
  return values;
}

function fromBits({ from, rows }, bytes) {
  const values = new Float64Array(rows);
  const words = new Uint32Array(values.buffer);
  // Steps of 64-bit words, in two halves with what is carried over; this machine keeps the low half first, as all of today's do.
  let low = 0;
  let high = 0;
  for (let row = 0; row < rows; row++) {
    const at = from + row;
    const lowStep =
      (bytes[at] | (bytes[at + rows] << 8) | (bytes[at + 2 * rows] << 16) | (bytes[at + 3 * rows] << 24)) >>> 0;
    const highStep =
      (bytes[at + 4 * rows] |
        (bytes[at + 5 * rows] << 8) |
        (bytes[at + 6 * rows] << 16) |
        (bytes[at + 7 * rows] << 24)) >>>
      0;
    low = (low + lowStep) >>> 0;
    high = (high + highStep + (low < lowStep ? 1 : 0)) >>> 0;
    words[2 * row] = low;
    words[2 * row + 1] = high;
  }
  return values;
}
