import { useCallback, useEffect, useState } from 'react';
import { loadSession, type Session } from '../api/session';

export function useSession() {
  const [session, setSession] = useState<Session | null>(null);
  const refresh = useCallback(() => {
    loadSession().then(setSession, () => setSession(null));
  }, []);
  useEffect(refresh, [refresh]);
  return { name: session?.name ?? null, holds: session?.holds ?? 0, refresh };
}
