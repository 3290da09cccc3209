import { useCallback, useEffect, useState } from 'react';
import { loadDepartures } from '../api/departures';
import type { Departure } from '../model/departure';

export function useDepartures() {
  const [departures, setDepartures] = useState<Departure[]>([]);
  const [problem, setProblem] = useState<string | null>(null);
  const reload = useCallback(() => {
    loadDepartures().then(
      (loaded) => {
        setDepartures(loaded);
        setProblem(null);
      },
      (error: Error) => setProblem(error.message),
    );
  }, []);
  useEffect(reload, [reload]);
  return { departures, problem, reload };
}
