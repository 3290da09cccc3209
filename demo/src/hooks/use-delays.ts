import { useEffect, useState } from 'react';
import type { Delays } from '../model/departure';

/** Delays as they come in over the harbour's event stream. */
export function useDelays(): Delays {
  const [delays, setDelays] = useState<Delays>({});
  useEffect(() => {
    const stream = new EventSource('/api/delays');
    stream.onmessage = ({ data }) => setDelays(JSON.parse(data) as Delays);
    return () => stream.close();
  }, []);
  return delays;
}
