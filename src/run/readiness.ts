import { connect } from 'node:net';

const patienceMs = 2000;

/** Whether a program is ready: a URL answers without an error, a port is open on this machine, or its output holds a text. */
export async function isReady(ready: string | number | undefined, said: () => string): Promise<boolean> {
  if (ready === undefined) return true;
  if (typeof ready === 'number') return (await isOpen('127.0.0.1', ready)) || isOpen('::1', ready);
  if (!/^https?:\/\//.test(ready)) return said().includes(ready);
  const answer = await fetch(ready, { signal: AbortSignal.timeout(patienceMs), redirect: 'manual' }).catch(() => undefined);
  await answer?.body?.cancel();
  return answer !== undefined && answer.status < 500;
}

function isOpen(host: string, port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect({ host, port });
    const settle = (isThere: boolean) => {
      resolve(isThere);
      socket.destroy();
    };
    socket.setTimeout(patienceMs, () => settle(false));
    socket.once('connect', () => settle(true));
    socket.once('error', () => settle(false));
  });
}
