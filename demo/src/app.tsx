import { useMemo, useState } from 'react';
import './app.css';
import { BerthFilter } from './components/berth-filter';
import { DepartureBoard } from './components/departure-board';
import { DepartureDetail } from './components/departure-detail';
import { HarbourHeader } from './components/harbour-header';
import { PageFooter } from './components/page-footer';
import { SearchField } from './components/search-field';
import { SummaryStrip } from './components/summary-strip';
import { TidePanel } from './components/tide-panel';
import { useDelays } from './hooks/use-delays';
import { useDepartures } from './hooks/use-departures';
import { useNow } from './hooks/use-now';
import { useSession } from './hooks/use-session';
import { applyFilter, type BerthChoice } from './model/filter';

export function App() {
  const { departures, problem, reload } = useDepartures();
  const delays = useDelays();
  const session = useSession();
  const now = useNow();
  const [berth, setBerth] = useState<BerthChoice>('all');
  const [search, setSearch] = useState('');
  const [selectedId, setSelectedId] = useState<string | null>(null);
  const shown = useMemo(() => applyFilter(departures, { berth, search }), [departures, berth, search]);
  const selected = departures.find((departure) => departure.id === selectedId);

  return (
    <>
      <HarbourHeader now={now} />
      <div className="harbour">
        <SummaryStrip departures={departures} delays={delays} now={now} />
        <div className="harbour-tools">
          <BerthFilter value={berth} onChange={setBerth} departures={departures} />
          <SearchField value={search} onChange={setSearch} />
        </div>
        <div className="harbour-body">
          <DepartureBoard
            departures={shown}
            delays={delays}
            now={now}
            problem={problem}
            selectedId={selectedId}
            onSelect={setSelectedId}
          />
          <aside className="harbour-side">
            <DepartureDetail
              departure={selected}
              delays={delays}
              onHeld={() => {
                reload();
                session.refresh();
              }}
            />
            <TidePanel now={now} />
          </aside>
        </div>
        <PageFooter holds={session.holds} />
      </div>
    </>
  );
}
