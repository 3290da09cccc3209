import { useEffect, useState } from 'react';
import { minutesOf } from '../model/clock';

/** Minutes since midnight, kept current. */
export function useNow(): number {
  const [now, setNow] = useState(() => minutesOf(new Date()));
  useEffect(() => {
    const timer = setInterval(() => setNow(minutesOf(new Date())), 1000);
    return () => clearInterval(timer);
  }, []);
  return now;
}
