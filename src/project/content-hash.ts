import { createHash } from 'node:crypto';

/** The first 16 hexadecimal digits of the SHA-1 of some texts; tells versions apart, protects nothing. */
export function contentHash(...parts: (string | Buffer)[]): string {
  const hash = createHash('sha1');
  for (const part of parts) hash.update(part).update('\0');
  return hash.digest('hex').slice(0, 16);
}
