import type { Departure } from './departure';

export type BerthChoice = number | 'all';

export interface Filter {
  berth: BerthChoice;
  search: string;
}

/** The departures that match, soonest first. */
export function applyFilter(departures: readonly Departure[], { berth, search }: Filter): Departure[] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  return departures
    .filter((departure) => berth === 'all' || departure.berth === berth)
    .filter(({ vessel, destination, via }) => {
      const text = `${vessel} ${destination} ${via ?? ''}`.toLowerCase();
      return words.every((word) => text.includes(word));
    });
}
