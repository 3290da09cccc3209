import { networkAddresses } from '../server/http/addresses.js';
import { urlAt } from './listening-report.js';

/** A URL as a code that phones read (ISO/IEC 18004), in lines of text. */
export interface PhoneCode {
  url: string;
  lines: string[];
}

/** The code for a page as a phone in the same network reaches it; by `localhost` it reaches only itself. */
export async function codeFor(url: string, host: string): Promise<PhoneCode> {
  const { generate } = await import('lean-qr');
  const isEverywhere = host === '0.0.0.0' || host === '::';
  const [address] = isEverywhere ? networkAddresses().filter((found) => !found.includes(':')) : [];
  const reached = address === undefined ? url : urlAt(url, address);
  const { size, get } = generate(reached);
  const lines: string[] = [];
  // Two rows in one line, with the border that readers need.
  for (let y = -2; y < size + 2; y += 2) {
    let line = '';
    for (let x = -2; x < size + 2; x++) line += blocks[(get(x, y) ? 2 : 0) + (get(x, y + 1) ? 1 : 0)];
    lines.push(line);
  }
  return { url: reached, lines };
}

/** Upper and lower half, dark on light: nothing, lower, upper, both. Terminals are dark, so that light is what is drawn. */
const blocks = ['\u2588', '\u2580', '\u2584', ' '];
