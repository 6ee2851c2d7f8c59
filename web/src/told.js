import { measuresBeside, sameMeasure } from './compare.js';
import { shortNumber } from './run.js';

const ORDER = ['broken', 'untested', 'unfinished', 'kept'];

/** What a run came to in one sentence: "2 broken, 1 untested, 14 kept; apex 69 → 71". */
export function sentenceOf(run, before) {
  const parts = [];
  if (run.stopped) parts.push('the run failed');
  if (run.notes.length) parts.push('not all of it was judged');
  const counts = ORDER.map((verdict) => [run.claims.filter((claim) => claim.verdict === verdict).length, verdict]);
  const told = counts.filter(([count]) => count).map(([count, verdict]) => `${count} ${verdict}`);
  if (told.length || !run.notes.length) parts.push(told.length ? told.join(', ') : 'no claims');
  const moved = measuresBeside(run, before).filter((one) => one.before !== null && one.before !== undefined && !sameMeasure(one.before, one.value));
  for (const one of moved.slice(0, 3)) parts.push(`${one.name} ${shortNumber(one.before)} → ${shortNumber(one.value)}`);
  if (!moved.length && run.findings.length) parts.push(`${run.findings.length} odd`);
  return parts.join('; ');
}

/** The files and lines that a text names, each once: "quay.py:47". */
export const placesIn = (text) => [...new Set(text.match(/[\w./-]+\.\w+:\d+/g) ?? [])];
