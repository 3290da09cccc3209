import pc from 'picocolors';

/**
 * Colours where somebody looks: on a terminal, unless the environment says otherwise (`NO_COLOR`, `FORCE_COLOR`, `TERM=dumb`).
 * Not in a pipe, in a file or in CI.
 */
export const colours = pc.createColors(wantsColours());

function wantsColours(): boolean {
  const { NO_COLOR, FORCE_COLOR, TERM } = process.env;
  if (NO_COLOR) return false;
  if (FORCE_COLOR && FORCE_COLOR !== '0') return true;
  return process.stdout.isTTY === true && TERM !== 'dumb';
}
