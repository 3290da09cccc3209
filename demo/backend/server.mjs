// The harbour office: the demo's backend, a program of its own. PORT is 8464 unless the environment says otherwise.
import { randomUUID } from 'node:crypto';
import { createServer } from 'node:http';
import { makeSailings } from './sailings.mjs';

const port = Number(process.env.PORT ?? 8464);
const start = new Date();
const sailings = makeSailings(start.getHours() * 60 + start.getMinutes());
const sessions = new Map();
const delays = { s5: 10 };
const listeners = new Set();

setInterval(() => {
  const late = ['s3', 's5', 's6', 's8'][Math.floor(Date.now() / 4000) % 4];
  delays[late] = ((delays[late] ?? 0) + 5) % 20;
  for (const listener of listeners) listener.write(`data: ${JSON.stringify(delays)}\n\n`);
}, 4000).unref();

function sessionOf(request, response) {
  const known = /(?:^|;\s*)harbour=([\w-]+)/.exec(request.headers.cookie ?? '')?.[1];
  if (known && sessions.has(known)) return sessions.get(known);
  const id = randomUUID();
  const session = { name: 'duty officer', holds: 0 };
  sessions.set(id, session);
  response.setHeader('set-cookie', `harbour=${id}; Path=/; HttpOnly; SameSite=Lax`);
  return session;
}

function json(response, status, value) {
  response.writeHead(status, { 'content-type': 'application/json' });
  response.end(JSON.stringify(value));
}

async function bodyOf(request) {
  let text = '';
  for await (const chunk of request) text += chunk;
  return JSON.parse(text);
}

const server = createServer(async (request, response) => {
  const { pathname } = new URL(request.url, 'http://harbour');
  if (pathname === '/health') return json(response, 200, { ok: true });
  if (pathname === '/api/departures') return json(response, 200, sailings);
  if (pathname === '/api/session') return json(response, 200, sessionOf(request, response));
  if (pathname === '/api/delays') {
    response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-cache' });
    response.write(`data: ${JSON.stringify(delays)}\n\n`);
    listeners.add(response);
    return response.on('close', () => listeners.delete(response));
  }
  const hold = /^\/api\/departures\/(s\d+)\/hold$/.exec(pathname);
  const sailing = hold && sailings.find(({ id }) => id === hold[1]);
  if (!sailing || request.method !== 'POST') return json(response, 404, { error: 'There is no such thing in this harbour.' });
  const { minutes, reason } = await bodyOf(request);
  sessionOf(request, response).holds += 1;
  sailing.heldMinutes += Number(minutes);
  sailing.heldReason = String(reason);
  json(response, 200, sailing);
});

server.listen(port, '127.0.0.1', () => console.log(`The harbour office answers on http://127.0.0.1:${port}`));
