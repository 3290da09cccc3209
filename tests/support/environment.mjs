import { createRequire } from 'node:module';
import { TestEnvironment } from 'jest-environment-node';

const require = createRequire(import.meta.url);

/**
 * Gives tests `realRequire`, which loads packages and files of the built program as Node.js does: once for all test files of a process.
 * In Jest's own way each of them would compile them anew, which takes seconds for a large one.
 */
export default class extends TestEnvironment {
  constructor(...given) {
    super(...given);
    this.global.realRequire = require;
  }
}
