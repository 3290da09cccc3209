/** Characters that are joined: small parts cost more to write than to join. */
const batchLength = 1 << 18;

/** A long text in parts, some of them taken together: going from one to the next costs more than joining them. */
export type TextParts = Iterable<string | readonly string[]>;

/** Joins the parts of a long text to fewer ones, without ever joining all of it. */
export function* batches(parts: TextParts): Generator<string> {
  let batch: string[] = [];
  let length = 0;
  for (const part of parts) {
    if (typeof part === 'string') {
      batch.push(part);
      length += part.length;
    } else
      for (const text of part) {
        batch.push(text);
        length += text.length;
      }
    if (length < batchLength) continue;
    yield batch.join('');
    [batch, length] = [[], 0];
  }
  if (batch.length > 0) yield batch.join('');
}
