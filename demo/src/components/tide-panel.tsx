import { formatClock } from '../model/format';
import { isRising, nextTurn, tideAt } from '../model/tide';
import { Icon } from './icon';
import { TideCurve } from './tide-curve';
import './tide-panel.css';

export function TidePanel({ now }: { now: number }) {
  const rising = isRising(now);
  return (
    <section className="card tide">
      <h2>
        Tide <span>{tideAt(now).toFixed(1)} m</span>
      </h2>
      <p>
        <Icon name={rising ? 'up' : 'down'} size={14} />
        {rising ? 'Rising, high' : 'Falling, low'} water at {formatClock(nextTurn(now))}
      </p>
      <TideCurve now={now} />
    </section>
  );
}
