// Where one looks: rows worth going to, the rows that are in sight, and the row in the address.

/** The rows to go to: of claims that did not pass, of findings, and the first divergence; in order. */
export function marksOf(run, divergence) {
  if (!run) return [];
  const marks = [];
  for (const claim of run.claims) if (!claim.passed) marks.push(...claim.rows.map((row) => ({ row, kind: 'breach' })));
  for (const finding of run.findings) if (finding.rows.length) marks.push({ row: finding.rows[0], kind: 'finding' });
  if (divergence) marks.push({ row: divergence.row, kind: 'divergence' });
  return marks.sort((one, two) => one.row - two.row);
}

/** Where the page begins: the first breach, or the last row. */
export const beginning = (marks, last) => marks.find((mark) => mark.kind === 'breach')?.row ?? last;

/** The rows in sight, as far as a run has them. */
export const fitted = (range, rows) => (range && range[0] < rows ? [range[0], Math.min(range[1], Math.max(rows, range[0] + 4))] : [0, rows]);

/** A range so many times as wide, about a row, no narrower than a few frames. */
export function zoomed([from, to], row, times, rows) {
  const wide = Math.max(Math.round((to - from) * times), 6);
  if (wide >= rows) return null;
  const share = (row - from) / Math.max(to - from, 1);
  const start = Math.max(0, Math.min(Math.round(row - share * wide), rows - wide));
  return [start, start + wide];
}

let later = 0;

/** The row stands in the address, once it rests: browsers bound how often an address may change. In a frame of a notebook it has
 * none of its own. */
export function putInAddress(row) {
  clearTimeout(later);
  later = setTimeout(() => {
    try {
      history.replaceState(null, '', `#row=${row}`);
    } catch {
      // The row is on the page all the same.
    }
  }, 150);
}

/** The row that the address names; null where it names none. */
export function rowInAddress() {
  const found = /^#row=(\d+)$/.exec(location.hash);
  return found ? Number(found[1]) : null;
}

