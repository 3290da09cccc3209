import type { Departure } from '../model/departure';
import { request } from './request';

export function loadDepartures(): Promise<Departure[]> {
  return request('/departures');
}

export interface Hold {
  minutes: number;
  reason: string;
}

/** Holds a departure back. The harbour office remembers who asked by a cookie. */
export function holdDeparture(id: string, hold: Hold): Promise<Departure> {
  return request(`/departures/${id}/hold`, hold);
}
