import type { Departure } from '../model/departure';
import type { BerthChoice } from '../model/filter';
import './berth-filter.css';

interface BerthFilterProps {
  value: BerthChoice;
  onChange(value: BerthChoice): void;
  departures: readonly Departure[];
}

export function BerthFilter({ value, onChange, departures }: BerthFilterProps) {
  const berths = [...new Set(departures.map(({ berth }) => berth))].sort((a, b) => a - b);
  const choices: BerthChoice[] = ['all', ...berths];
  return (
    <fieldset className="berths" aria-label="Berth">
      {choices.map((choice) => (
        <button key={choice} type="button" aria-pressed={choice === value} onClick={() => onChange(choice)}>
          {choice === 'all' ? 'All berths' : `Berth ${choice}`}
          <small>{choice === 'all' ? departures.length : departures.filter(({ berth }) => berth === choice).length}</small>
        </button>
      ))}
    </fieldset>
  );
}
