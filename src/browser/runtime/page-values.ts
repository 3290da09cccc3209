// What the page's own values are asked: one may be a proxy that refuses what nobody but us asks for, or has been revoked, which is nothing to
// the page.

/** The answer to a question about a value of the page's, `otherwise` where the value refuses. */
export function asked<T>(question: () => T, otherwise: T): T {
  try {
    return question();
  } catch {
    return otherwise;
  }
}

export function isError(value: unknown): value is Error {
  return asked(() => value instanceof Error, false);
}

export const unshown = 'something that cannot be shown';

/** What was thrown, as a text of one line. */
export function thrownText(thrown: unknown): string {
  return asked(() => (thrown instanceof Error ? `${thrown.name}: ${thrown.message}` : String(thrown)), unshown);
}
