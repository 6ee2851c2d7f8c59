import assert from 'node:assert/strict';
import { test } from 'node:test';
import { firstDivergence, flipped, measuresBeside } from '../src/compare.js';
import { beginning, fitted, marksOf, zoomed } from '../src/looking.js';
import { boundsOf, likeDefault, partsOf, stepOf } from '../src/numbers.js';
import { Run, shortNumber } from '../src/run.js';
import { sentenceOf } from '../src/told.js';

const same = (value, rows) => ({ code: 'same', value, rows });
/** Steps of one byte each. */
const stepsOf = (values) => {
  let before = 0;
  return values.map((value) => {
    const step = value - before;
    before = value;
    return step >= 0 ? 2 * step : -2 * step - 1;
  });
};

function runOf(columns, more = {}) {
  const bytes = [];
  const described = Object.entries(columns).map(([name, values]) => {
    const from = bytes.length;
    bytes.push(...stepsOf(values));
    return { name, kind: 'count', labels: [], code: 'steps', width: 1, from, rows: values.length };
  });
  const rows = Object.values(columns)[0].length;
  const none = same(0, 0);
  const events = { names: [], sources: [], row: none, name: none, source: none, data: [] };
  const rest = { name: 'a run', rate: 60, scene: {}, actions: [], lanes: [], lines: [], inputs: [], claims: [], notes: [], measures: [], findings: [] };
  return new Run({ ...rest, rows, columns: described, events, ...more }, Uint8Array.from(bytes));
}

test('values come back, rising and falling', () => {
  assert.deepEqual([...runOf({ a: [3, 5, 5, 1, 0] }).values('a')], [3, 5, 5, 1, 0]);
});

test('a played run grows, labels that are new get a place, and its events are there', () => {
  const run = runOf({ a: [1] });
  run.columns.push({ name: 'gait', kind: 'label', labels: ['standing'], ...same(0, 1) });
  run.byName.set('gait', run.columns.at(-1));
  run.inputs.push({ name: 'hop', ...same(0, 1) });
  run.inputByName.set('hop', run.inputs[0]);
  run.append(1, [[2, 'airborne'], [4, 'standing']], [[1], [0]], [[1, 'hop', 'wick', '']]);
  assert.equal(run.rows, 3);
  assert.deepEqual([...run.values('a').subarray(0, 3)], [1, 2, 4]);
  assert.deepEqual([0, 1, 2].map((row) => run.shown('gait', row)), ['standing', 'airborne', 'standing']);
  assert.deepEqual(run.heldIn(1), ['hop']);
  assert.deepEqual(run.eventsIn(1).map((event) => event.name), ['hop']);
});

test('the first divergence is the first row of any channel, the last row and the length included', () => {
  const run = runOf({ a: [1, 2, 3], b: [0, 0, 1] });
  assert.equal(firstDivergence(run, runOf({ a: [1, 2, 3], b: [0, 0, 1] })), null);
  assert.deepEqual(firstDivergence(run, runOf({ a: [1, 2, 4], b: [0, 0, 2] })), { row: 2, channels: ['a', 'b'] });
  assert.deepEqual(firstDivergence(run, runOf({ a: [2, 2, 3], b: [0, 0, 2] })), { row: 0, channels: ['a'] });
  assert.deepEqual(firstDivergence(run, runOf({ a: [1, 2], b: [0, 0] })), { row: 2, channels: [] });
  assert.equal(firstDivergence(run, runOf({ c: [9, 9, 9] })), null);
});

const claim = (name, verdict, rows = []) => ({ name, verdict, passed: verdict === 'kept', rows });
const measure = (name, value) => ({ name, value, before: null });

test('a run in one sentence: the worst first, and what moved', () => {
  const claims = [claim('a', 'kept'), claim('b', 'broken', [3]), claim('c', 'untested'), claim('d', 'kept')];
  const run = runOf({ a: [1] }, { claims, measures: [measure('apex', 71), measure('time', null)] });
  const before = runOf({ a: [1] }, { claims: [claim('b', 'kept')], measures: [measure('apex', 69), measure('time', null)] });
  assert.equal(sentenceOf(run, null), '1 broken, 1 untested, 2 kept');
  assert.equal(sentenceOf(run, before), '1 broken, 1 untested, 2 kept; apex 69 → 71');
  assert.equal(sentenceOf(runOf({ a: [1] }), null), 'no claims');
  assert.deepEqual(flipped(run, before).map((one) => one.name), ['b']);
  assert.deepEqual(measuresBeside(run, null).map((one) => one.before), [null, null]);
});

test('the first breach is where the page begins, whatever is odd before it', () => {
  const run = runOf({ a: [1, 2, 3, 4, 5] }, { claims: [claim('b', 'broken', [3, 4])], findings: [{ rows: [1] }] });
  const marks = marksOf(run, { row: 2, channels: [] });
  assert.deepEqual(marks.map((mark) => [mark.row, mark.kind]), [
    [1, 'finding'],
    [2, 'divergence'],
    [3, 'breach'],
    [4, 'breach'],
  ]);
  assert.equal(beginning(marks, 4), 3);
  assert.equal(beginning(marks.slice(0, 2), 4), 4);
  assert.deepEqual(marksOf(runOf({ a: [1] }), null), []);
});

test('zooming keeps the row in sight and ends at the whole run', () => {
  assert.deepEqual(zoomed([0, 100], 50, 0.5, 100), [25, 75]);
  assert.deepEqual(zoomed([0, 100], 0, 0.5, 100), [0, 50]);
  assert.deepEqual(zoomed([0, 100], 99, 0.5, 100), [50, 100]);
  assert.equal(zoomed([25, 75], 50, 2, 100), null);
  assert.deepEqual(zoomed([40, 46], 43, 0.5, 100), [40, 46]);
  assert.deepEqual(fitted([10, 20], 100), [10, 20]);
  assert.deepEqual(fitted([90, 120], 100), [90, 100]);
  assert.deepEqual(fitted([90, 120], 50), [0, 50]);
});

test('a number has its unit, its bounds, and the kind of its default', () => {
  assert.deepEqual(partsOf('0.35s'), { amount: 0.35, unit: 's' });
  assert.deepEqual(partsOf(-12), { amount: -12, unit: '' });
  assert.equal(partsOf('3/4'), null);
  assert.deepEqual(boundsOf({ least: null, greatest: null }, partsOf(340)), [0, 680]);
  assert.deepEqual(boundsOf({ least: 10, greatest: 20 }, partsOf(15)), [10, 20]);
  assert.deepEqual(boundsOf({ least: null, greatest: null }, partsOf(-5)), [-10, 0]);
  assert.deepEqual(boundsOf({ least: null, greatest: null }, partsOf(0)), [0, 1]);
  assert.equal(stepOf(0, 680, { default: 340 }), 1);
  assert.equal(stepOf(0, 1.6, { default: 0.8 }), 0.008);
  assert.equal(likeDefault('340', { default: 300 }), 340);
  assert.equal(likeDefault('0.5s', { default: '0.8s' }), '0.5s');
  assert.equal(likeDefault('', { default: 3 }), '');
});

test('numbers are as short as they can be read', () => {
  assert.deepEqual([1, 0.1 + 0.2, NaN, Infinity, -Infinity, 12345678, null].map(shortNumber), ['1', '0.3', 'none', 'inf', '-inf', '12345678', 'none']);
});
