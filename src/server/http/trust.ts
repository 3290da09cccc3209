import type { IncomingMessage, ServerResponse } from 'node:http';
import { isIP } from 'node:net';

/** Which host names and origins the server answers to. */
export interface Trust {
  /** Names beside `localhost`, its subdomains and IP addresses. */
  names: readonly string[];
  /** Further origins whose pages may use the live channel. */
  origins: readonly string[];
}

/**
 * Whether the request's Host is a name of ours. A page from elsewhere can make its own name point at this machine (DNS
 * rebinding); its requests then carry that name.
 */
export function isOwnHost(request: IncomingMessage, { names }: Trust): boolean {
  const host = request.headers.host;
  if (host === undefined) return false;
  const name = host
    .replace(/:\d+$/, '')
    .replace(/^\[|\]$/g, '')
    .toLowerCase();
  return (
    name === 'localhost' || name.endsWith('.localhost') || isIP(name) !== 0 || names.some((own) => own.toLowerCase() === name)
  );
}

/** Whether the page that makes the request is of our own origin or of a trusted one. Programs send no Origin; they need the key. */
export function isOwnOrigin(request: IncomingMessage, { origins, names }: Trust): boolean {
  const { origin } = request.headers;
  if (origin === undefined) return !['cross-site', 'same-site'].includes(String(request.headers['sec-fetch-site']));
  if (origins.includes(origin)) return true;
  try {
    const { host, hostname, port } = new URL(origin);
    // Servers in front of this one may call it by another name than browsers call them.
    return host === request.headers.host || (port === '' && names.includes(hostname));
  } catch {
    return false; // `null`, the origin of sandboxed pages and files, is nobody's
  }
}

/** The origin of the page that makes a request, by what the browser says of it. */
export function originFrom({ headers }: IncomingMessage): string | undefined {
  const { origin, referer = '' } = headers;
  if (origin !== undefined && origin !== 'null') return origin;
  return URL.canParse(referer) ? new URL(referer).origin : undefined;
}

/** The trusted origin whose page makes this request, by what the browser says of it; `undefined` for any other. */
export function embedOrigin(request: IncomingMessage, { origins }: Trust): string | undefined {
  const from = request.headers.origin ?? originFrom(request);
  return from !== undefined && origins.includes(from) ? from : undefined;
}

/**
 * Whether a page of another site makes this request (Fetch Metadata). Following a link to a page of ours is another matter: see
 * `isNavigation`. Programs and old browsers don't say; for those, pieces and answers protect themselves.
 */
export function isFromElsewhere(request: IncomingMessage, trust: Trust): boolean {
  const site = request.headers['sec-fetch-site'];
  return (site === 'cross-site' || site === 'same-site') && embedOrigin(request, trust) === undefined;
}

/** Whether the user goes to a page in a window of its own, e.g. by a link. */
export function isNavigation({ headers, method }: IncomingMessage): boolean {
  return method === 'GET' && headers['sec-fetch-mode'] === 'navigate' && headers['sec-fetch-dest'] === 'document';
}

/** Whether the browser vouches for the request to come from a page of ours. Others have to know a key. */
export function isSurelyOwn({ headers }: IncomingMessage): boolean {
  return headers['sec-fetch-site'] === 'same-origin';
}

/** Sets the fields that keep answers of ours to our own pages, and to those of trusted origins. */
export function protect(request: IncomingMessage, response: ServerResponse, trust: Trust): void {
  const embedding = embedOrigin(request, trust);
  response.setHeader('cross-origin-resource-policy', embedding === undefined ? 'same-origin' : 'cross-origin');
  response.setHeader('content-security-policy', `frame-ancestors ${["'self'", ...trust.origins].join(' ')}`);
  if (trust.origins.length === 0) response.setHeader('x-frame-options', 'SAMEORIGIN');
  else response.setHeader('vary', 'origin, referer');
  if (embedding !== undefined && request.headers.origin === embedding)
    response.setHeader('access-control-allow-origin', embedding);
}

/** Whether the request comes from a program on this machine that reached us by a loopback address or name. */
export function isFromThisMachine(request: IncomingMessage): boolean {
  const name = (request.headers.host ?? '').replace(/:\d+$/, '').toLowerCase();
  const isLocalName = name === 'localhost' || name.endsWith('.localhost') || name === '[::1]' || name.startsWith('127.');
  return isLocalName && /^(?:::ffff:)?127\.|^::1$/.test(request.socket.remoteAddress ?? '');
}
