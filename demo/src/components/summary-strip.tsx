import { minutesUntil } from '../model/clock';
import type { Delays, Departure } from '../model/departure';
import { formatSpan } from '../model/format';
import { delayOf, Stage, stageOf } from '../model/status';
import './summary-strip.css';

export function SummaryStrip({ departures, delays, now }: { departures: readonly Departure[]; delays: Delays; now: number }) {
  const ahead = departures.filter((departure) => stageOf(departure, delays, now) !== Stage.Sailed);
  const late = ahead.filter((departure) => delayOf(departure, delays) > 0);
  const next = ahead[0];
  const spaces = ahead.reduce((sum, { carSpaces, cars }) => sum + carSpaces - cars, 0);
  const figures: [string, string, boolean][] = [
    ['Still to sail', String(ahead.length), false],
    ['Next departure', next ? `in ${formatSpan(minutesUntil(next.departsAt + delayOf(next, delays), now))}` : 'tomorrow', false],
    ['Late', String(late.length), late.length > 0],
    ['Car spaces left', String(spaces), false],
  ];
  return (
    <dl className="summary">
      {figures.map(([name, value, isAlert]) => (
        <div key={name} className={isAlert ? 'card summary-alert' : 'card'}>
          <dt>{name}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}
