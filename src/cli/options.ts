import { InvalidArgumentError } from 'commander';
import { parseTarget } from '../forward/target.js';

export function parsePort(value: string): number {
  const port = Number(value);
  if (!/^\d+$/.test(value) || port > 65_535) throw new InvalidArgumentError('A port is a whole number up to 65535.');
  return port;
}

export function parseBase(value: string): string {
  if (!value.startsWith('/')) throw new InvalidArgumentError('A base path starts with /.');
  return value.endsWith('/') ? value : `${value}/`;
}

/** Reads `--forward /path=origin`. */
export function parseForward(value: string, before: { path: string; to: string }[] = []): { path: string; to: string }[] {
  const at = value.indexOf('=');
  const [path, to] = [value.slice(0, at), value.slice(at + 1)];
  if (at === -1 || !path.startsWith('/'))
    throw new InvalidArgumentError('Write a path and an origin, e.g. /api=http://127.0.0.1:8464.');
  if (!parseTarget(to.replace(/\/$/, '')))
    throw new InvalidArgumentError(`'${to}' is no origin; write e.g. http://127.0.0.1:8464, without a path.`);
  return [...before, { path, to: to.replace(/\/$/, '') }];
}
