import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';

/**
 * Gives back what a start leaves behind. By itself the engine would wait until about as much has come together again, which
 * in a server that has nothing to do may be never. Takes about 15 ms for each 1,000 modules.
 */
export function collectGarbage(): void {
  setFlagsFromString('--expose-gc');
  const collect = runInNewContext('typeof gc === "function" ? gc : undefined') as (() => void) | undefined;
  collect?.();
}
