const highWaterAt = 374;
const cycleMinutes = 745;
const meanMetres = 2.6;
const rangeMetres = 1.9;

/** Height of the water above datum, in metres, at a minute of the day. */
export function tideAt(minute: number): number {
  const phase = ((minute - highWaterAt) / cycleMinutes) * 2 * Math.PI;
  return meanMetres + rangeMetres * Math.cos(phase) + 0.18 * Math.cos(2 * phase + 0.6);
}

/** Whether the water rises at a minute of the day. */
export function isRising(minute: number): boolean {
  return tideAt(minute + 5) > tideAt(minute);
}

/** The next time, in minutes of the day, at which the water turns. */
export function nextTurn(minute: number): number {
  const rising = isRising(minute);
  let at = minute;
  while (isRising(at) === rising) at += 1;
  return at;
}
