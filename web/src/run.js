import { valuesOf } from './unpack.js';

/** A run: its columns, unpacked when they are first asked for, and what was found out about it. */
export class Run {
  constructor(described, bytes) {
    Object.assign(this, described);
    this.bytes = bytes;
    this.byName = new Map(this.columns.map((column) => [column.name, column]));
    this.inputByName = new Map(this.inputs.map((column) => [column.name, column]));
    this.read = new Map();
    this.eventsByRow = null;
  }

  has(name) {
    return this.byName.has(name);
  }

  kindOf(name) {
    return this.byName.get(name)?.kind;
  }

  labelsOf(name) {
    return this.byName.get(name)?.labels ?? [];
  }

  /** The values of a channel, a number a row; a label's are places among its labels. */
  values(name) {
    return this.#unpacked(`channel ${name}`, this.byName.get(name));
  }

  input(name) {
    return this.#unpacked(`input ${name}`, this.inputByName.get(name));
  }

  /** Some rows more, while a run is played: a list of rows, each with a value for each channel, and each with its inputs. */
  append(first, rows, held, events) {
    this.columns.forEach((column, n) => this.#grow(`channel ${column.name}`, column, first, rows, n));
    this.inputs.forEach((column, n) => this.#grow(`input ${column.name}`, column, first, held, n));
    this.rows = first + rows.length;
    for (const [row, name, source, data] of events) {
      this.allEvents().push({ row, name, source, data });
    }
    this.eventsByRow = null;
  }

  /** All events, in order: {row, name, source, data}; the data as JSON text. */
  allEvents() {
    if (!this.listed) {
      const { names, sources, row, name, source, data } = this.events;
      const [rows, nameAt, sourceAt] = [row, name, source].map((column) => valuesOf(column, this.bytes));
      this.listed = Array.from(rows, (at, n) => ({
        row: at,
        name: names[nameAt[n]],
        source: sources[sourceAt[n]],
        data: data[n] ?? '',
      }));
    }
    return this.listed;
  }

  eventsIn(row) {
    if (!this.eventsByRow) {
      this.eventsByRow = new Map();
      for (const event of this.allEvents()) {
        if (!this.eventsByRow.has(event.row)) this.eventsByRow.set(event.row, []);
        this.eventsByRow.get(event.row).push(event);
      }
    }
    return this.eventsByRow.get(row) ?? [];
  }

  /** A value as people read it. */
  shown(name, row) {
    if (!this.has(name) || row >= this.rows) return '';
    const value = this.values(name)[row];
    const kind = this.kindOf(name);
    if (kind === 'label') return this.labelsOf(name)[value];
    if (kind === 'flag') return value ? 'true' : 'false';
    return shortNumber(value);
  }

  /** The seconds at a row; null where the run has no rate. */
  seconds(row) {
    return this.rate ? row / this.rate : null;
  }

  /** The actions that are held in a row. */
  heldIn(row) {
    return this.inputs.map((one) => one.name).filter((name) => Math.abs(this.input(name)[row] ?? 0) >= 0.5);
  }

  #unpacked(key, column) {
    if (!this.read.has(key)) this.read.set(key, column ? valuesOf(column, this.bytes) : new Float64Array(this.rows));
    return this.read.get(key);
  }

  #grow(key, column, first, rows, n) {
    let values = this.#unpacked(key, column);
    if (values.length < first + rows.length) {
      const larger = new Float64Array(Math.max(1024, 2 * (first + rows.length)));
      larger.set(values.subarray(0, first));
      values = larger;
      this.read.set(key, values);
    }
    rows.forEach((row, k) => {
      values[first + k] = asNumber(row[n], column);
    });
  }
}

/** A value as its column keeps it: a label by its place, which it gets when it is first seen. */
function asNumber(value, column) {
  if (typeof value === 'string') {
    if (!column.labels.includes(value)) column.labels.push(value);
    return column.labels.indexOf(value);
  }
  return value === null || value === undefined ? NaN : Number(value);
}

/** A number in at most 7 digits, without noise behind it. */
export function shortNumber(value) {
  if (value === null || Number.isNaN(value)) return 'none';
  if (!Number.isFinite(value)) return value > 0 ? 'inf' : '-inf';
  if (Number.isInteger(value) && Math.abs(value) < 1e15) return String(value);
  return String(Number(value.toPrecision(6)));
}
