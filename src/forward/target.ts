/** Where a backend listens. */
export interface Target {
  /** For messages: the origin, or `unix:` and the path of the socket. */
  label: string;
  isSecure: boolean;
  /** Host and port as they stand in a Host field. */
  host: string;
  hostname: string;
  port: number;
  /** A Unix socket in place of host and port. */
  socketPath?: string;
}

/** Reads an origin such as `http://127.0.0.1:8464`, or `unix:/run/harbour.sock`; `undefined` for what is neither. */
export function parseTarget(text: string): Target | undefined {
  const socketPath = /^unix:(\/.+)$/.exec(text)?.[1];
  if (socketPath !== undefined)
    return { label: text, isSecure: false, host: 'localhost', hostname: 'localhost', port: 80, socketPath };
  if (!URL.canParse(text)) return undefined;
  const { protocol, host, hostname, port, pathname, search, hash, origin, username } = new URL(text);
  const isSecure = protocol === 'https:';
  if ((!isSecure && protocol !== 'http:') || pathname !== '/' || search || hash || username) return undefined;
  return {
    label: origin,
    isSecure,
    host,
    hostname: hostname.replace(/^\[|\]$/g, ''),
    port: Number(port) || (isSecure ? 443 : 80),
  };
}
