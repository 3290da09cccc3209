/** The value below which a share of the numbers lies. */
export function quantile(numbers, share) {
  const sorted = [...numbers].sort((a, b) => a - b);
  return sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))];
}

/** The middle one of some numbers. */
export function median(numbers) {
  return quantile(numbers, 0.5);
}

/**
 * A figure beside its yardstick. `aim` says what their ratio has to be: at most or at least a number.
 *
 * @param {{ figure: string, value: number, unit: string, yardstick: string, against: number, aim?: ['at most' | 'at least', number] }} row
 */
export function figure(row) {
  const ratio = row.value / row.against;
  const isMet = row.aim && (row.aim[0] === 'at most' ? ratio <= row.aim[1] : ratio >= row.aim[1]);
  return { ...row, ratio, ...(row.aim ? { isMet } : {}) };
}

const number = (value) => (value >= 100 ? value.toFixed(0) : value >= 10 ? value.toFixed(1) : value.toFixed(2));

/** One line of the table. */
export function line({ figure: name, value, unit, yardstick, against, ratio, aim, isMet }) {
  const verdict = aim ? `${aim[0]} ${aim[1]}${isMet ? '' : '   MISSED'}` : '';
  const measured = `${number(value)} ${unit}`;
  return `${name.padEnd(58)} ${measured.padStart(11)}   ${`${number(against)} ${yardstick}`.padEnd(44)} ${ratio.toFixed(2).padStart(6)} x  ${verdict}`;
}
