const digits = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/';

/** Code of a character -> its value as a digit in base 64 (ECMA-426, 9.2). */
export const digitOf = new Uint8Array(128);
for (let value = 0; value < digits.length; value++) digitOf[digits.charCodeAt(value)] = value;

/** A number as it stands in mappings (base 64 VLQ, ECMA-426, 9.2). */
export function vlq(value: number): string {
  let rest = value < 0 ? (-value << 1) | 1 : value << 1;
  let out = '';
  do {
    const digit = rest & 31;
    rest >>>= 5;
    out += digits[rest > 0 ? digit | 32 : digit];
  } while (rest > 0);
  return out;
}

const codes = Uint8Array.from(digits, (digit) => digit.charCodeAt(0));

/** The same as the bytes of its digits, from a place on. Returns the place behind them. */
export function putVlq(bytes: Uint8Array, at: number, value: number): number {
  let rest = value < 0 ? (-value << 1) | 1 : value << 1;
  let next = at;
  do {
    const digit = rest & 31;
    rest >>>= 5;
    bytes[next++] = codes[rest > 0 ? digit | 32 : digit]!;
  } while (rest > 0);
  return next;
}
