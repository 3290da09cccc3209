import type { Delays, Departure } from '../model/departure';
import { formatClock, formatSpan } from '../model/format';
import { delayOf } from '../model/status';
import './departure-detail.css';
import { HoldForm } from './hold-form';
import { Icon } from './icon';

interface DepartureDetailProps {
  departure: Departure | undefined;
  delays: Delays;
  onHeld(): void;
}

export function DepartureDetail({ departure, delays, onHeld }: DepartureDetailProps) {
  if (!departure) {
    return (
      <section className="card detail detail-hint">
        <Icon name="anchor" size={22} />
        Choose a departure to see its load or to hold it.
      </section>
    );
  }
  const late = delayOf(departure, delays);
  return (
    <section className="card detail">
      <h2>
        {formatClock(departure.departsAt + late)} to {departure.destination}
      </h2>
      <p className="detail-vessel">
        {departure.vessel}, berth {departure.berth}
      </p>
      {departure.heldReason && (
        <p className="detail-reason">
          Held {formatSpan(departure.heldMinutes)}: {departure.heldReason}
        </p>
      )}
      <p className="detail-label">
        <span>Cars</span>
        <span>
          {departure.cars} of {departure.carSpaces}
        </span>
      </p>
      <div className="detail-cars">
        <i style={{ width: `${(departure.cars / departure.carSpaces) * 100}%` }} />
      </div>
      <HoldForm key={departure.id} departure={departure} onHeld={onHeld} />
    </section>
  );
}
