import type { Delays, Departure } from '../model/departure';
import './departure-board.css';
import { DepartureRow } from './departure-row';
import { EmptyBoard } from './empty-board';

interface DepartureBoardProps {
  departures: readonly Departure[];
  delays: Delays;
  now: number;
  problem: string | null;
  selectedId: string | null;
  onSelect(id: string): void;
}

export function DepartureBoard({ departures, delays, now, problem, selectedId, onSelect }: DepartureBoardProps) {
  if (departures.length === 0) return <EmptyBoard problem={problem} />;
  return (
    <section className="card board">
      <table>
        <thead>
          <tr>
            <th scope="col">Departs</th>
            <th scope="col">Destination</th>
            <th scope="col">Vessel</th>
            <th scope="col">Berth</th>
            <th scope="col">Status</th>
          </tr>
        </thead>
        <tbody>
          {departures.map((departure) => (
            <DepartureRow
              key={departure.id}
              departure={departure}
              delays={delays}
              now={now}
              isSelected={departure.id === selectedId}
              onSelect={() => onSelect(departure.id)}
            />
          ))}
        </tbody>
      </table>
    </section>
  );
}
