import type { IncomingMessage } from 'node:http';

/** What a request asks for. */
export interface RequestTarget {
  /** Still encoded, with a slash in front. */
  path: string;
  query: URLSearchParams;
}

/**
 * Reads a request-target, which may be anything that a client chose to send: a path, or an absolute URL (RFC 9112, 3.2). Not
 * with `URL`, which throws for `//` and makes hosts of paths that begin so.
 */
export function readTarget({ url = '/' }: Pick<IncomingMessage, 'url'>): RequestTarget {
  const target = url.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '');
  const [, path = '', query = ''] = /^([^?#]*)(?:\?([^#]*))?/.exec(target) ?? [];
  return { path: path.startsWith('/') ? path : `/${path}`, query: new URLSearchParams(query) };
}
