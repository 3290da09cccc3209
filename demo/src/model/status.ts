import { minutesUntil } from './clock';
import type { Delays, Departure } from './departure';

export enum Stage {
  Sailed = 'Sailed',
  Boarding = 'Boarding',
  Held = 'Held',
  Delayed = 'Delayed',
  OnTime = 'On time',
}

const boardingMinutes = 15;

/** Minutes by which a departure is later than planned. */
export function delayOf(departure: Departure, delays: Delays): number {
  return departure.heldMinutes + (delays[departure.id] ?? 0);
}

/** Where a departure stands at `now`. */
export function stageOf(departure: Departure, delays: Delays, now: number): Stage {
  const late = delayOf(departure, delays);
  const left = minutesUntil(departure.departsAt + late, now);
  if (left < 0) return Stage.Sailed;
  if (departure.heldMinutes > 0) return Stage.Held;
  if (left <= boardingMinutes) return Stage.Boarding;
  return late > 0 ? Stage.Delayed : Stage.OnTime;
}
