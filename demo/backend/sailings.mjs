// The day's sailings, made up around the time at which the backend starts.
const routes = [
  ['Gannet', 'Heron Island', null, 1, 42],
  ['Marram', 'Port Sandling', 'Cockle Head', 2, 60],
  ['Samphire', 'Eelgrass Bay', null, 3, 24],
  ['Curlew', 'Heron Island', null, 1, 42],
  ['Sea Lavender', 'Great Skerry', 'Eelgrass Bay', 4, 80],
  ['Gannet', 'Cockle Head', null, 2, 42],
  ['Dunlin', 'Heron Island', null, 1, 30],
  ['Marram', 'Port Sandling', null, 2, 60],
  ['Samphire', 'Eelgrass Bay', null, 3, 24],
  ['Curlew', 'Great Skerry', 'Heron Island', 4, 42],
];

/** Departures from a little before `now` (minutes since midnight) on, twenty-five minutes apart. */
export function makeSailings(now) {
  const first = Math.floor(now / 5) * 5 - 20;
  return routes.map(([vessel, destination, via, berth, carSpaces], index) => ({
    id: `s${index + 1}`,
    vessel,
    destination,
    via,
    berth,
    departsAt: (first + index * 25) % 1440,
    cars: Math.round(carSpaces * (0.35 + ((index * 37) % 60) / 100)),
    carSpaces,
    heldMinutes: 0,
    heldReason: null,
  }));
}
