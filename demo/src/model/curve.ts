import { tideAt } from './tide';

export const width = 290;
export const height = 110;
const hoursShown = 12;
const highestMetres = 5;

/** The tide from three hours before a minute of the day on, as it's drawn. */
export function curve(at: number) {
  const from = at - 180;
  const x = (minute: number) => ((minute - from) / (hoursShown * 60)) * width;
  const y = (minute: number) => height - (tideAt(minute) / highestMetres) * height;
  const points: string[] = [];
  for (let minute = from; minute <= from + hoursShown * 60; minute += 15)
    points.push(`${x(minute).toFixed(1)},${y(minute).toFixed(1)}`);
  return { x, y, water: `M0,${height} L${points.join(' L')} L${width},${height} Z` };
}

/** The hours under the curve. */
export function hoursIn(at: number): number[] {
  return [0, 3, 6, 9].map((hour) => Math.ceil((at - 180) / 60) * 60 + hour * 60 + 60);
}
