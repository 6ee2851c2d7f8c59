// Numbers to turn: what a field holds, and from where to where its slider goes.

/** "0.35s" as an amount and its unit; null where it is no number. */
export function partsOf(value) {
  const found = /^\s*(-?\d+(?:\.\d+)?(?:e-?\d+)?)\s*(s|ms|f)?\s*$/.exec(String(value));
  return found ? { amount: Number(found[1]), unit: found[2] ?? '' } : null;
}

/** From where to where a slider goes: the model's own bounds, or from nothing to twice the default. */
export function boundsOf({ least, greatest }, parsed) {
  const amount = parsed?.amount ?? 0;
  const [low, high] = amount < 0 ? [2 * amount, 0] : [0, 2 * amount || 1];
  return [least ?? Math.min(low, greatest ?? low), greatest ?? Math.max(high, least ?? high)];
}

/** How far a slider goes at a time. */
export function stepOf(low, high, number) {
  if (Number.isInteger(number.default) && high - low >= 20) return 1;
  return Number(((high - low) / 200).toPrecision(1)) || 'any';
}

/** What was typed, of the kind that the model has: a number where that is one, and otherwise the text. */
export function likeDefault(given, number) {
  if (typeof number.default === 'number' && String(given).trim() !== '' && Number.isFinite(Number(given))) return Number(given);
  return String(given);
}
