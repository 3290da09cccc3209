/** A call of a page to another origin on this machine, and how it would go through the dev server. */
export interface DirectCall {
  /** Origin that was called. */
  origin: string;
  /** What to ask for instead: path and query. */
  path: string;
  /** The rule for the settings that leads there. */
  rule: string;
}

/** Whether a host name is this machine, as browsers see it (Let 'localhost' be localhost; Secure Contexts, 3.1). */
export function isThisMachine(hostname: string): boolean {
  const name = hostname.toLowerCase();
  return (
    name === 'localhost' ||
    name.endsWith('.localhost') ||
    name === '[::1]' ||
    name === '0.0.0.0' ||
    /^127(?:\.\d+){3}$/.test(name)
  );
}

/** How a call of a URL would go through the dev server; `undefined` for a URL that isn't on this machine. */
export function directCall(url: string): DirectCall | undefined {
  if (!URL.canParse(url)) return undefined;
  const { protocol, hostname, port, pathname, search } = new URL(url);
  if (!/^(?:http|ws)s?:$/.test(protocol) || !isThisMachine(hostname)) return undefined;
  const scheme = protocol === 'https:' || protocol === 'wss:' ? 'https' : 'http';
  // Nobody is at the address that stands for all of them.
  const name = hostname === '0.0.0.0' ? '127.0.0.1' : hostname;
  const origin = `${scheme}://${name}${port === '' ? '' : `:${port}`}`;
  const first = /^\/[^/]+/.exec(pathname)?.[0];
  // A root of its own would take the front end's pages away.
  const path = first === undefined ? `/backend${pathname}${search}` : `${pathname}${search}`;
  const rule =
    first === undefined
      ? `{ paths: ['/backend'], to: '${origin}', path: { drop: '/backend' } }`
      : `{ paths: ['${first.replaceAll("'", '%27')}'], to: '${origin}' }`;
  return { origin, path, rule };
}

/** What to do about a direct call. */
export function directCallHint({ path, rule }: DirectCall): string {
  return `Ask for '${path}' instead, and let the dev server forward it: forward: [${rule}]`;
}
