import { statSync } from 'node:fs';
import Sequencer from '@jest/test-sequencer';

/** Files that are short and take long. */
const long = /\/(?:installed|language|packages|house)\.test\.ts$/;

/** Long test files first, so that no process is left with one of them when the others have nothing to do any more. */
export default class extends Sequencer {
  sort(tests) {
    const weight = ({ path }) => (long.test(path) ? 1e6 : path.includes('/core/') ? 0 : statSync(path).size);
    return [...tests].sort((a, b) => weight(b) - weight(a));
  }
}
