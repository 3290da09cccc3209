import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { WebSocket } from 'ws';
import type { AppliedMessage, PageMessage } from '../../src/core/live/messages.js';
import { Backend } from '../support/backend.js';
import { repository, Workspace } from '../support/workspace.js';

test('the terminal says in one line what a save did, where, why state went, and explains a thing once', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import './row.js';`,
    'row.js': '0;',
  });
  const backend = await Backend.start((_, response) => response.end());
  const args = ['serve', 'index.html', '--port', '0', '--no-cache', '--forward', `/api=${backend.origin}`];
  const child = spawn(process.execPath, [join(repository, 'dist/cli/main.js'), ...args], {
    cwd: workspace.root,
    env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1' },
  });
  let output = '';
  let changed = () => {};
  child.stdout.on('data', (data) => {
    output += data;
    changed();
  });
  const says = async (pattern: RegExp) => {
    while (!pattern.test(output))
      await new Promise<void>((resolve) => {
        changed = resolve;
      });
  };
  await says(/read in .*\n\n/);
  await says(/answers/);
  // However early the backend answers.
  const start = output.slice(0, output.indexOf('read in')).replace(/:\d{4,5}/g, ':1');
  expect(start).toMatch(
    /^\n {2}quay {35}Vine Spark \d\S+\n\n {2}http:\/\/localhost:1\/ +the page\n {2}\/api {2}→ {2}http:\/\/127\.0\.0\.1:1 +(?:answers, \d+ ms|is being asked)\n {2}2 modules {30}$/,
  );
  const url = /http:\/\/localhost:\d+\//.exec(output)![0];
  const { key, session } = (await (await fetch(`${url}~spark/session`)).json()) as { key: string; session: string };
  const query = new URLSearchParams({ key, session, page: 'index.html', revision: '0' });
  const page = new WebSocket(`${url.replace('http', 'ws')}~spark/live?${query}`, 'spark-live', {
    headers: { 'user-agent': 'Firefox/140.0' },
  });
  // Answers each update with the next of these.
  const note = 'row.js exports limit beside components, so its importers run again';
  const applied = (more: Partial<AppliedMessage>): Omit<AppliedMessage, 'update'> => ({
    type: 'applied',
    boundaries: ['main.js'],
    ran: ['row.js', 'main.js'],
    styles: [],
    files: [],
    reset: [],
    applyMs: 1,
    stages: [],
    notes: [note],
    ...more,
  });
  const answers: Omit<PageMessage & { update: number }, 'update'>[] = [
    applied({}),
    applied({ reset: ['Row'] }),
    { type: 'reloaded', reason: 'no module on the way to the page takes the update', chain: ['row.js', 'main.js'] } as never,
  ];
  page.on('message', (data) => {
    const message = JSON.parse(String(data));
    if (message.type === 'update') page.send(JSON.stringify({ ...answers.shift(), update: message.id }));
  });
  await new Promise((resolve) => page.once('message', resolve));
  const expected = [
    / {2}row\.js {2}updated in place, state kept at main\.js in Firefox 140 after \d+ ms\n/,
    / {2}row\.js {2}updated in place, state starts anew in Row at main\.js in Firefox 140 after \d+ ms\n/,
    / {2}row\.js {2}reloaded Firefox 140: no module on the way to the page takes the update \(row\.js → main\.js\)\n/,
  ];
  for (const [n, line] of expected.entries()) {
    workspace.write({ 'row.js': `${n + 1};` });
    await says(line);
  }
  expect(output.split(note)).toHaveLength(2);
  const ended = new Promise((resolve) => child.once('exit', resolve));
  child.kill();
  await ended;
  page.terminate();
  await backend.close();
  workspace.dispose();
});
