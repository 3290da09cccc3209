// Requests per second and 99th percentile through Vine Spark, against a bare pipe of node:http and against no proxy at all.
import { fork } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { Agent, request as ask, createServer } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { median, quantile } from './figures.mjs';
import { serve } from './program.mjs';

const atOnce = 50;

/** The backend: a small JSON answer. */
function backend() {
  const body = JSON.stringify({ departures: Array.from({ length: 20 }, (_, berth) => ({ berth, vessel: 'Curlew', at: 545 })) });
  const server = createServer((request, response) => {
    request.resume();
    response.writeHead(200, { 'content-type': 'application/json', 'content-length': body.length });
    response.end(body);
  });
  server.listen(0, '127.0.0.1', () => process.send(server.address().port));
}

/** The yardstick: the least that hands a request on and its answer back. */
function pipe(port) {
  const agent = new Agent({ keepAlive: true });
  const server = createServer((request, response) => {
    const headers = { ...request.headers, host: `127.0.0.1:${port}` };
    const outgoing = ask({ agent, hostname: '127.0.0.1', port, method: request.method, path: request.url, headers }, (answer) => {
      response.writeHead(answer.statusCode, answer.headers);
      answer.pipe(response);
    });
    outgoing.on('error', () => response.destroy());
    request.pipe(outgoing);
  });
  server.listen(0, '127.0.0.1', () => process.send(server.address().port));
}

function child(...args) {
  const process = fork(fileURLToPath(import.meta.url), args);
  return new Promise((resolve) => process.once('message', (port) => resolve({ port, stop: () => process.kill() })));
}

/** Requests per second, and the time of each in milliseconds. */
async function load(port, requests) {
  const agent = new Agent({ keepAlive: true, maxSockets: atOnce });
  const times = [];
  const one = () =>
    new Promise((resolve, reject) => {
      const from = performance.now();
      ask({ agent, port, host: '127.0.0.1', path: '/api/departures', headers: { host: `localhost:${port}` } }, (answer) => {
        answer.resume();
        answer.on('end', () => {
          if (answer.statusCode !== 200) reject(new Error(`status ${answer.statusCode}`));
          times.push(performance.now() - from);
          resolve();
        });
      })
        .on('error', reject)
        .end();
    });
  let left = requests;
  const from = performance.now();
  await Promise.all(
    Array.from({ length: atOnce }, async () => {
      while (left-- > 0) await one();
    }),
  );
  const seconds = (performance.now() - from) / 1000;
  agent.destroy();
  return { perSecond: requests / seconds, p99: quantile(times, 0.99) };
}

/** Medians of some rounds for the program, the bare pipe and no proxy: requests per second and 99th percentile. */
export async function measureForward({ requests, rounds }) {
  const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
  writeFileSync(join(folder, 'index.html'), '<!doctype html>');
  writeFileSync(join(folder, 'package.json'), '{}');
  const origin = await child('backend');
  const bare = await child('pipe', String(origin.port));
  const program = await serve(folder, ['--forward', `/api=http://127.0.0.1:${origin.port}`]);
  const ports = { direct: origin.port, pipe: bare.port, program: Number(new URL(program.url).port) };
  const figures = Object.fromEntries(Object.keys(ports).map((name) => [name, []]));
  for (const port of Object.values(ports)) await load(port, requests);
  for (let round = 0; round < rounds; round++)
    for (const [name, port] of Object.entries(ports)) figures[name].push(await load(port, requests));
  await program.stop();
  origin.stop();
  bare.stop();
  rmSync(folder, { recursive: true });
  return Object.fromEntries(
    Object.entries(figures).map(([name, list]) => [
      name,
      { perSecond: median(list.map(({ perSecond }) => perSecond)), p99: median(list.map(({ p99 }) => p99)) },
    ]),
  );
}

// The yardstick and the backend run as processes of their own.
const [, file, role, port] = process.argv;
if (file === fileURLToPath(import.meta.url) && role === 'backend') backend();
if (file === fileURLToPath(import.meta.url) && role === 'pipe') pipe(Number(port));
