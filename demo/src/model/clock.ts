/** Minutes since midnight of a date. */
export function minutesOf(date: Date): number {
  return date.getHours() * 60 + date.getMinutes();
}

/** Minutes from `now` until `at`, negative once it has passed; the board shows less than half a day either way. */
export function minutesUntil(at: number, now: number): number {
  const difference = at - now;
  return difference < -720 ? difference + 1440 : difference;
}
