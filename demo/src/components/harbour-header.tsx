import gull from '../assets/gull.svg';
import { formatClock } from '../model/format';
import './harbour-header.css';

export function HarbourHeader({ now }: { now: number }) {
  return (
    <header className="harbour-header">
      <div className="harbour-header-in">
        <img src={gull} alt="" />
        <div>
          <h1>Saltmarsh Ferries</h1>
          <p>Departures from Saltmarsh Quay</p>
        </div>
        <time className="harbour-clock">{formatClock(now)}</time>
      </div>
    </header>
  );
}
