export default {
  testEnvironment: '<rootDir>/tests/support/environment.mjs',
  extensionsToTreatAsEsm: ['.ts', '.tsx'],
  transform: {
    '^.+\\.tsx?$': [
      '@swc/jest',
      { jsc: { parser: { syntax: 'typescript', tsx: false }, target: 'es2023' }, module: { type: 'es6' } },
    ],
  },
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  roots: ['<rootDir>/tests'],
  testMatch: ['**/*.test.ts'],
  setupFiles: ['<rootDir>/tests/support/no-color.mjs'],
  testTimeout: 60_000,
  // Browsers and servers share two cores.
  maxWorkers: 2,
  testSequencer: '<rootDir>/tests/support/sequencer.mjs',
  reporters: ['default', '<rootDir>/tests/support/counting-reporter.mjs'],
  modulePathIgnorePatterns: ['<rootDir>/dist', '<rootDir>/saltmarsh-ferries'],
};
