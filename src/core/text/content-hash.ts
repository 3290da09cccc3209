import * as crypto from 'node:crypto';

/** The first 16 hexadecimal digits of the SHA-1 of some texts; tells versions apart, protects nothing. */
export function contentHash(...parts: (string | Buffer)[]): string {
  if (parts.length === 1) return crypto.hash('sha1', parts[0]!).slice(0, 16);
  if (parts.every((part) => typeof part === 'string')) return crypto.hash('sha1', parts.join('\0')).slice(0, 16);
  const hash = crypto.createHash('sha1');
  for (const part of parts) hash.update(part).update('\0');
  return hash.digest('hex').slice(0, 16);
}

/** Eight letters and digits that tell something from all others of its kind, however many there are (41 bits). */
export function shortHash(...parts: string[]): string {
  return BigInt(`0x${contentHash(...parts)}`)
    .toString(36)
    .slice(-8)
    .padStart(8, '0');
}

/**
 * A hash of 48 bits as 12 hexadecimal digits, made without leaving JavaScript (FNV-1a in two halves). For what is hashed
 * very often and holds a proper hash already.
 */
export function quickHash(text: string): string {
  let a = 0x811c9dc5;
  let b = 0xcbf29ce4;
  for (let at = 0; at < text.length; at++) {
    const unit = text.charCodeAt(at);
    a = Math.imul(a ^ unit, 0x01000193);
    b = Math.imul(b ^ unit, 0x85ebca6b);
  }
  return ((a ^ (a >>> 15)) >>> 0).toString(16).padStart(8, '0') + ((b ^ (b >>> 13)) >>> 16).toString(16).padStart(4, '0');
}
