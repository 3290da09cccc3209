import { test } from '@jest/globals';

/** Whether the full sizes run: `npm run test:long`. */
export const isLong = process.env.SPARK_LONG === '1';

/** A test of the long run. */
export const longTest: typeof test.skip = isLong ? test : test.skip;

/** A number for `npm test`, or the one for the long run. */
export function full(usual: number, long: number): number {
  return isLong ? long : usual;
}
