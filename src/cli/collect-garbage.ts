import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';

/** Updates that leave enough behind to be worth a collection. */
const manyUpdates = 50;
/** Collections wait until nothing has been saved for so long. */
const quietMs = 3000;

/**
 * Gives back what a start leaves behind. By itself the engine would wait until about as much has come together again, which
 * in a server that has nothing to do may be never. What stays moves together, since pages of memory are only given back
 * whole. Takes about 30 ms for each 1,000 modules.
 */
export function collectGarbage(): void {
  setFlagsFromString('--expose-gc');
  setFlagsFromString('--compact-on-every-full-gc');
  const collect = runInNewContext('typeof gc === "function" ? gc : undefined') as (() => void) | undefined;
  collect?.();
  setFlagsFromString('--no-compact-on-every-full-gc');
}

/** Gives back what many updates leave behind, as soon as there is a pause. */
export class UpdateGarbage {
  #updates = 0;
  #timer: NodeJS.Timeout | undefined;

  /** There was another update. */
  updated(): void {
    if (++this.#updates < manyUpdates) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => {
      this.#updates = 0;
      collectGarbage();
    }, quietMs).unref();
  }
}
