import type { IncomingMessage } from 'node:http';
import { type CookieChanges, type ForwardRule, pathHere } from './rule.js';
import { callOfRule, checkedFields } from './rule-failure.js';

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

/** A text of a message without what no message may hold: a backend can send it, but nobody may pass it on (RFC 9110, 5.5). */
export function withoutControls(text: string): string {
  return text.replace(/[^\t\x20-\x7e\x80-\xff]/g, '');
}

/** Name and value pairs in the order and spelling in which they came. */
export function* headerPairs(rawHeaders: readonly string[]): Generator<[name: string, value: string]> {
  for (let at = 0; at + 1 < rawHeaders.length; at += 2) yield [rawHeaders[at]!, rawHeaders[at + 1]!];
}

/** The end-to-end fields of a message as a flat list, duplicates and order kept; without those that `skip` holds (lower case). */
export function endToEnd(
  message: IncomingMessage,
  { keep = [], skip }: { keep?: readonly string[]; skip?: Readonly<Record<string, unknown>> } = {},
): string[] {
  const listed = fieldsNamedBy(message.headers.connection);
  const { rawHeaders } = message;
  const out: string[] = [];
  // By index and not over pairs: this runs twice in every exchange.
  for (let at = 0; at + 1 < rawHeaders.length; at += 2) {
    const lower = rawHeaders[at]!.toLowerCase();
    if ((hopByHop.has(lower) || listed?.has(lower)) && !keep.includes(lower)) continue;
    if (skip && Object.hasOwn(skip, lower)) continue;
    out.push(rawHeaders[at]!, rawHeaders[at + 1]!);
  }
  return out;
}

/** Fields that a Connection field names beside the usual words. */
function fieldsNamedBy(connection: string | undefined): Set<string> | undefined {
  if (connection === undefined || /^(?:keep-alive|close|upgrade)$/i.test(connection)) return undefined;
  return new Set(
    connection
      .toLowerCase()
      .split(',')
      .map((name) => name.trim()),
  );
}

/** The request's fields for the backend: the host name of the rule, who asked (`x-forwarded-*`), and what the rule changes. */
export function requestFields(request: IncomingMessage, rule: ForwardRule, keep: readonly string[] = []): string[] {
  const { headers, socket } = request;
  const client = socket.remoteAddress ?? '';
  const isSecure = 'encrypted' in socket;
  const before = headers['x-forwarded-for'];
  const browserHost = String(headers.host ?? '');
  const added: Record<string, string> = {
    __proto__: null as never,
    host: rule.host === 'backend' ? rule.to.host : rule.host === 'browser' ? browserHost : rule.host,
    'x-forwarded-for': before ? `${before}, ${client}` : client,
    'x-forwarded-host': String(headers['x-forwarded-host'] ?? browserHost),
    'x-forwarded-proto': String(headers['x-forwarded-proto'] ?? (isSecure ? 'https' : 'http')),
  };
  if (rule.forwarded) {
    const own = `for="${client.includes(':') ? `[${client}]` : client}";host="${browserHost}";proto=${isSecure ? 'https' : 'http'}`;
    added.forwarded = headers.forwarded ? `${headers.forwarded}, ${own}` : own;
  }
  const out = endToEnd(request, { keep, skip: added });
  for (const [name, value] of Object.entries(added)) out.push(name, value);
  return lengthLast(withChanges(out, rule, 'requestHeaders'));
}

/** The answer's fields for the browser, with cookies, redirects and fields changed as the rule says. */
export function responseFields(
  answer: IncomingMessage,
  { request, rule }: { request: IncomingMessage; rule: ForwardRule },
  keep: readonly string[] = [],
): string[] {
  const out = endToEnd(answer, { keep });
  for (let at = 0; at + 1 < out.length; at += 2) {
    if (/[^\t\x20-\x7e\x80-\xff]/.test(out[at + 1]!)) out[at + 1] = withoutControls(out[at + 1]!);
    const lower = out[at]!.toLowerCase();
    if (lower === 'set-cookie') out[at + 1] = changedCookie(out[at + 1]!, rule.cookies);
    else if (lower === 'location' && rule.redirects === 'ours') out[at + 1] = locationHere(out[at + 1]!, request, rule);
  }
  return lengthLast(withChanges(out, rule, 'responseHeaders'));
}

/** Whether a text is the same in Latin-1 and in UTF-8. */
export function isAscii(text: string): boolean {
  return !/[\x80-\xff]/.test(text);
}

/**
 * Fields with the content's length behind a Content-Disposition that holds more than ASCII: behind a length, Node.js reads that one as UTF-8,
 * and refuses what it has made of it.
 */
function lengthLast(fields: string[]): string[] {
  const isName = (name: string) => (word: string, at: number) => at % 2 === 0 && word.toLowerCase() === name;
  const disposition = fields.findLastIndex(isName('content-disposition'));
  if (disposition === -1 || isAscii(fields[disposition + 1]!)) return fields;
  const length = fields.findIndex(isName('content-length'));
  return length === -1 || length > disposition ? fields : [...fields.toSpliced(length, 2), ...fields.slice(length, length + 2)];
}

/** Sets and removes fields. One that is set stands where its first namesake stood, or at the end. */
function withChanges(fields: string[], rule: ForwardRule, key: 'requestHeaders' | 'responseHeaders'): string[] {
  const changes = rule[key];
  if (typeof changes !== 'function' && Object.keys(changes).length === 0) return fields;
  const label = rule.paths.join(', ');
  const wanted = typeof changes === 'function' ? callOfRule(label, key, () => changes(asRecord(fields))) : changes;
  const left = new Map(checkedFields(label, key, wanted).map(([name, value]) => [name.toLowerCase(), { name, value }]));
  if (left.size === 0) return fields;
  const done = new Set<string>();
  const out: string[] = [];
  for (const [name, value] of headerPairs(fields)) {
    const change = left.get(name.toLowerCase());
    if (!change) out.push(name, value);
    else if (change.value !== null && !done.has(name.toLowerCase())) out.push(name, change.value);
    if (change) done.add(name.toLowerCase());
  }
  for (const [lower, { name, value }] of left) if (value !== null && !done.has(lower)) out.push(name, value);
  return out;
}

function asRecord(fields: readonly string[]): Record<string, string> {
  const record = Object.create(null) as Record<string, string>;
  for (const [name, value] of headerPairs(fields)) {
    const lower = name.toLowerCase();
    record[lower] = lower in record ? `${record[lower]}, ${value}` : value;
  }
  return record;
}

/** A Set-Cookie field with attributes replaced or removed (RFC 6265, 4.1); everything else stays as it was written. */
export function changedCookie(cookie: string, { domain, path, secure, sameSite }: CookieChanges): string {
  const [pair = '', ...attributes] = cookie.split(';');
  const changes: Record<string, string | null | undefined> = {
    domain: domain && `Domain=${domain}`,
    path: path && `Path=${path}`,
    secure: secure === undefined ? undefined : secure ? 'Secure' : null,
    samesite: sameSite && `SameSite=${sameSite}`,
  };
  if (domain === null) changes.domain = null;
  if (path === null) changes.path = null;
  if (sameSite === null) changes.samesite = null;
  const kept = attributes.filter(
    (attribute) => !Object.hasOwn(changes, nameOf(attribute)) || changes[nameOf(attribute)] === undefined,
  );
  const fresh = Object.values(changes).filter((text): text is string => typeof text === 'string');
  return [pair, ...kept, ...fresh.map((text) => ` ${text}`)].join(';');
}

function nameOf(attribute: string): string {
  return attribute.split('=')[0]!.trim().toLowerCase();
}

/** A Location that points at the backend, as the browser has to follow it here. */
function locationHere(location: string, request: IncomingMessage, rule: ForwardRule): string {
  if (location.startsWith('/') && !location.startsWith('//')) return pathHere(rule, location);
  if (!URL.canParse(location)) return location;
  const { host, pathname, search, hash } = new URL(location);
  const names = [rule.to.host, rule.host, ...(rule.host === 'browser' ? [request.headers.host] : [])];
  if (!names.includes(host)) return location;
  const scheme = 'encrypted' in request.socket ? 'https' : 'http';
  return `${scheme}://${request.headers.host}${pathHere(rule, pathname + search + hash)}`;
}
