import type { IncomingMessage } from 'node:http';

/*
 * A request-target may be anything that a client chose to send: a path, or an absolute URL (RFC 9112, 3.2). It's not read with
 * `URL`, which throws for `//` and makes hosts of paths that begin so.
 */

/** The path that a request asks for, still encoded, with a slash in front. */
export function pathOf({ url = '/' }: Pick<IncomingMessage, 'url'>): string {
  const path = (url.startsWith('/') ? url : url.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '')).replace(/[?#].*$/s, '');
  return path.startsWith('/') ? path : `/${path}`;
}

/** The query of a request. */
export function queryOf({ url = '/' }: Pick<IncomingMessage, 'url'>): URLSearchParams {
  return new URLSearchParams(/^[^?#]*\?([^#]*)/.exec(url)?.[1] ?? '');
}
