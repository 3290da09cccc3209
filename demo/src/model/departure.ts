/** A sailing as the harbour office knows it. Times are minutes since midnight. */
export interface Departure {
  id: string;
  vessel: string;
  destination: string;
  via: string | null;
  berth: number;
  departsAt: number;
  cars: number;
  carSpaces: number;
  heldMinutes: number;
  heldReason: string | null;
}

/** Minutes of delay by departure id, as they are reported from the water. */
export type Delays = Readonly<Record<string, number>>;
