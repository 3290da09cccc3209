/** Characters that are joined: small parts cost more to write than to join. */
const batchLength = 1 << 18;

/** Joins the parts of a long text to fewer ones, without ever joining all of it. */
export function* batches(parts: Iterable<string>): Generator<string> {
  let batch: string[] = [];
  let length = 0;
  for (const part of parts) {
    batch.push(part);
    length += part.length;
    if (length < batchLength) continue;
    yield batch.join('');
    [batch, length] = [[], 0];
  }
  if (batch.length > 0) yield batch.join('');
}
