import { Icon } from './icon';
import './search-field.css';

export function SearchField({ value, onChange }: { value: string; onChange(value: string): void }) {
  return (
    <label className="search">
      <Icon name="search" />
      <input
        type="search"
        placeholder="Vessel or destination"
        aria-label="Search"
        value={value}
        onChange={(event) => onChange(event.target.value)}
      />
    </label>
  );
}
