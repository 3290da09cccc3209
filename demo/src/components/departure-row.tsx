import type { Delays, Departure } from '../model/departure';
import { formatClock } from '../model/format';
import { delayOf, Stage, stageOf } from '../model/status';
import './departure-row.css';
import { StatusBadge } from './status-badge';

interface DepartureRowProps {
  departure: Departure;
  delays: Delays;
  now: number;
  isSelected: boolean;
  onSelect(): void;
}

export function DepartureRow({ departure, delays, now, isSelected, onSelect }: DepartureRowProps) {
  const late = delayOf(departure, delays);
  const stage = stageOf(departure, delays, now);
  const classes = ['departure', isSelected && 'is-selected', stage === Stage.Sailed && 'is-sailed'].filter(Boolean).join(' ');
  return (
    <tr className={classes} onClick={onSelect} aria-selected={isSelected}>
      <td className="departure-time">
        {late > 0 && <s>{formatClock(departure.departsAt)}</s>}
        {formatClock(departure.departsAt + late)}
      </td>
      <td>
        <span className="departure-destination">{departure.destination}</span>
        {departure.via && <small>via {departure.via}</small>}
      </td>
      <td>{departure.vessel}</td>
      <td>
        <span className="departure-berth">{departure.berth}</span>
      </td>
      <td>
        <StatusBadge stage={stage} late={late} />
      </td>
    </tr>
  );
}
