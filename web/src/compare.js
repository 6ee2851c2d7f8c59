/** The first row in which two runs differ, and the channels that do there; null where they are the same as far as both go. */
export function firstDivergence(run, other) {
  const names = run.columns.map((column) => column.name).filter((name) => other.has(name));
  const rows = Math.min(run.rows, other.rows);
  let first = rows;
  let there = [];
  for (const name of names) {
    const row = firstDifferent(run, other, name, Math.min(first + 1, rows));
    if (row === null) continue;
    if (row < first) [first, there] = [row, []];
    there.push(name);
  }
  if (there.length) return { row: first, channels: there };
  return run.rows === other.rows ? null : { row: rows, channels: [] };
}

function firstDifferent(run, other, name, rows) {
  const [mine, theirs] = [run.values(name), other.values(name)];
  const [labels, otherLabels] = [run.labelsOf(name), other.labelsOf(name)];
  const sameLabels = labels.length === otherLabels.length && labels.every((label, n) => label === otherLabels[n]);
  for (let row = 0; row < rows; row++) {
    if (sameLabels ? !Object.is(mine[row], theirs[row]) : labels[mine[row]] !== otherLabels[theirs[row]]) return row;
  }
  return null;
}

/** Measures of two runs side by side, by name. */
export function measuresBeside(run, other) {
  const before = new Map((other?.measures ?? []).map((one) => [one.name, one.value]));
  return run.measures.map((one) => ({ ...one, before: before.get(one.name) ?? one.before }));
}

/** Whether two measures came to the same. */
export function sameMeasure(one, other) {
  return Object.is(one, other) || (one == null && other == null);
}

/** The claims whose verdict is another one than in the run before. */
export function flipped(run, other) {
  const before = new Map((other?.claims ?? []).map((claim) => [claim.name, claim.verdict]));
  return run.claims.filter((claim) => before.has(claim.name) && before.get(claim.name) !== claim.verdict);
}
