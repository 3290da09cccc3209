import type { IncomingMessage } from 'node:http';
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
export function isOwnOrigin(request: IncomingMessage, { origins }: Trust): boolean {
  const { origin } = request.headers;
  if (origin === undefined || origins.includes(origin)) return true;
  try {
    return new URL(origin).host === request.headers.host;
  } catch {
    return false; // `null`, the origin of sandboxed pages and files, is nobody's
  }
}

/** Whether the request comes from a program on this machine that reached us by a loopback address or name. */
export function isFromThisMachine(request: IncomingMessage): boolean {
  const name = (request.headers.host ?? '').replace(/:\d+$/, '').toLowerCase();
  const isLocalName = name === 'localhost' || name.endsWith('.localhost') || name === '[::1]' || name.startsWith('127.');
  return isLocalName && /^(?:::ffff:)?127\.|^::1$/.test(request.socket.remoteAddress ?? '');
}
