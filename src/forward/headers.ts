import type { IncomingMessage } from 'node:http';

/** Fields that concern one connection only (RFC 9110, 7.6.1). */
const hopByHop = new Set([
  'connection',
  'keep-alive',
  'proxy-connection',
  'te',
  'trailer',
  'transfer-encoding',
  'upgrade',
  'proxy-authenticate',
  'proxy-authorization',
]);

/** Name and value pairs in the order and spelling in which they came. */
export function* headerPairs(rawHeaders: readonly string[]): Generator<[name: string, value: string]> {
  for (let at = 0; at + 1 < rawHeaders.length; at += 2) yield [rawHeaders[at]!, rawHeaders[at + 1]!];
}

/** The end-to-end fields of a message as a flat list, duplicates and order kept. */
export function endToEnd(message: IncomingMessage, keep: readonly string[] = []): string[] {
  const listed = new Set(
    (message.headers.connection ?? '')
      .toLowerCase()
      .split(',')
      .map((name) => name.trim()),
  );
  const out: string[] = [];
  for (const [name, value] of headerPairs(message.rawHeaders)) {
    const lower = name.toLowerCase();
    if (!keep.includes(lower) && (hopByHop.has(lower) || listed.has(lower))) continue;
    out.push(name, value);
  }
  return out;
}

/** The request's fields for the backend: its own host name, and who asked (`x-forwarded-*`). */
export function requestHeaders(request: IncomingMessage, to: URL, keep: readonly string[] = []): string[] {
  const out: string[] = [];
  const flat = endToEnd(request, keep);
  const added = new Set(['host', 'x-forwarded-for', 'x-forwarded-host', 'x-forwarded-proto']);
  for (const [name, value] of headerPairs(flat)) if (!added.has(name.toLowerCase())) out.push(name, value);
  const before = request.headers['x-forwarded-for'];
  const client = request.socket.remoteAddress ?? '';
  const isSecure = 'encrypted' in request.socket;
  out.push('host', to.host, 'x-forwarded-for', before ? `${before}, ${client}` : client);
  out.push('x-forwarded-host', String(request.headers['x-forwarded-host'] ?? request.headers.host ?? ''));
  out.push('x-forwarded-proto', String(request.headers['x-forwarded-proto'] ?? (isSecure ? 'https' : 'http')));
  return out;
}
