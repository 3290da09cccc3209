/** The value below which a share of the numbers lies. */
export function quantile(numbers, share) {
  const sorted = [...numbers].sort((a, b) => a - b);
  return sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))];
}

/** Prints a figure: median and 95th percentile in milliseconds, and the median as a ratio to the yardstick of the same run. */
export function row([name, times, yardstick]) {
  const [median, late] = [quantile(times, 0.5), quantile(times, 0.95)];
  const ratio = (median / yardstick).toFixed(2);
  console.log(
    `${name.padEnd(58)} ${median.toFixed(1).padStart(8)} ms   p95 ${late.toFixed(1).padStart(8)} ms   ${ratio.padStart(6)} x`,
  );
}
