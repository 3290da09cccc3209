import { setTimeout as delay } from 'node:timers/promises';
import { tryToConnect } from '../../forward/backend-states.js';
import { parseTarget, type Target } from '../../forward/target.js';

/** How often it's looked whether a backend answers: one that starts over because of the same change is gone for a moment. */
const looks = 3;
const lookEveryMs = 60;
/** So long a backend may take to come back. */
const longestAwayMs = 60_000;

/** Settles when backends have answered for a moment: those that were just ending don't count. Returns whether all did. */
export async function backendsAnswer(origins: Iterable<string>): Promise<boolean> {
  const targets = [...new Set(origins)].map((origin) => parseTarget(origin)).filter((target) => target !== undefined);
  return (await Promise.all(targets.map(answers))).every(Boolean);
}

async function answers(target: Target): Promise<boolean> {
  const until = performance.now() + longestAwayMs;
  for (let good = 0; good < looks; ) {
    if (performance.now() > until) return false;
    good = (await tryToConnect(target)) === undefined ? good + 1 : 0;
    if (good < looks) await delay(lookEveryMs);
  }
  return true;
}
