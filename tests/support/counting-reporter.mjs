/** Prints the totals as the run's last line. */
export default class CountingReporter {
  onRunComplete(_contexts, { numPassedTests, numFailedTests, numPendingTests, numRuntimeErrorTestSuites }) {
    const skipped = numPendingTests > 0 ? `, ${numPendingTests} skipped` : '';
    // A file that could not even be loaded counts as one failure.
    process.on('exit', () =>
      console.log(`${numPassedTests} passed, ${numFailedTests + numRuntimeErrorTestSuites} failed${skipped}`),
    );
  }
}
