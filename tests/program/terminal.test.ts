import { spawn, spawnSync } from 'node:child_process';
import { readdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { WebSocket } from 'ws';
import type { AppliedMessage, PageMessage } from '../../src/core/live/messages.js';
import { Backend } from '../support/backend.js';
import { launchBrowser, openPage } from '../support/browser.js';
import { Program } from '../support/program.js';
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

test('pages come and go with a line, errors that repeat fold, and what pages print has its line', async () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `console.warn('tide %s of %d', 'high', 6, { at: new Map([['quay', [1, 2]]]) });\nlet n = 0;\nconst timer = setInterval(() => { if (++n === 40) clearInterval(timer); throw new Error('aground'); }, 50);
const refuse = new Proxy(() => {}, { get() { throw new Error('refused'); } });
console.log(refuse, Array(1e7).fill(7), { get depth() { document.title = 'asked'; } });
Promise.reject(refuse);
Promise.reject(Object.create(null));
document.body.append('drawn');
`,
  });
  const child = spawn(
    process.execPath,
    [join(repository, 'dist/cli/main.js'), 'serve', 'index.html', '--port', '0', '--no-cache', '--console'],
    {
      cwd: workspace.root,
      env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1' },
    },
  );
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
  const browser = await launchBrowser();
  const { page } = await openPage(browser, /http:\/\/localhost:\d+\//.exec(output)![0]);
  await says(/again: Error: aground in Chrome \d+ {2}×10\n/);
  // The server goes and comes back: the page says so meanwhile.
  const port = new URL(page.url()).port;
  await says(/index\.html in Chrome \d+ is open\n/);
  expect(output).toMatch(/Chrome \d+ {2}tide high of 6 \{ at: Map \{ "quay" => \[1, 2\] \} \} {2}main\.js:1\n/);
  expect(output).toMatch(/ {2}\[something that cannot be shown\] \[(?:7, ){20}…\] \{ depth: \(…\) \} {2}main\.js:5\n/);
  expect([await page.title(), await page.textContent('body')]).toEqual(['', expect.stringContaining('drawn')]);
  expect(output.match(/an error in Chrome/g)).toHaveLength(3);
  expect(output.match(/again: Error: aground/g)).toHaveLength(3);
  await page.reload();
  const ended = new Promise((resolve) => child.once('exit', resolve));
  child.kill('SIGKILL');
  await ended;
  await page.locator('spark-away').waitFor({ state: 'attached' });
  expect(await page.evaluate(`document.querySelector('spark-away').shadowRoot.textContent`)).toContain('cannot be reached');
  const again = await Program.serve(workspace.root, ['index.html', '--port', port]);
  await page.locator('spark-away').waitFor({ state: 'detached' });
  await again.stop();
  await browser.close();
  workspace.dispose();
}, 60_000);

/** A terminal of a given width, on which keys are pressed when a text stands there. */
function onTerminal(
  cwd: string,
  args: readonly string[],
  { columns, keys }: { columns: number; keys: [after: string, key: string][] },
) {
  const program = `
import fcntl, os, pty, select, struct, sys, termios, time
args = sys.argv[2:]
pid, fd = pty.fork()
if pid == 0:
    os.execvp(args[0], args)
fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack('HHHH', 40, ${columns}, 0, 0))
keys = eval(sys.argv[1])
out = b''
until = time.time() + 40
while time.time() < until:
    ready, _, _ = select.select([fd], [], [], 0.2)
    if ready:
        try:
            data = os.read(fd, 65536)
        except OSError:
            break
        if not data:
            break
        out += data
    while keys and keys[0][0].encode() in out:
        os.write(fd, keys.pop(0)[1].encode())
sys.stdout.buffer.write(out)
sys.exit(os.waitpid(pid, 0)[1])
`;
  const main = join(repository, 'dist/cli/main.js');
  return spawnSync('python3', ['-c', program, JSON.stringify(keys), process.execPath, main, ...args], {
    cwd,
    encoding: 'utf8',
    env: { ...process.env, NODE_OPTIONS: '', TERM: 'xterm-256color', NO_COLOR: columns === 60 ? '1' : '' },
  });
}

test.each([60, 100, 200])(
  'on a terminal of %d columns single keys do what they say, and Ctrl-C ends',
  (columns) => {
    const workspace = Workspace.with({
      'index.html': '<!doctype html><script type="module" src="main.js"></script>',
      'main.js': '0;',
    });
    const keys: [string, string][] = [
      ['read in', '?'],
      ['this list', 'p'],
      ['no page is open', 't'],
      ['requests are shown', 't'],
      ['no longer shown', 'n'],
      ['read anew', '\u0003'],
    ];
    const { status, stdout } = onTerminal(workspace.root, ['serve', 'index.html', '--port', '0', '--no-cache'], {
      columns,
      keys,
    });
    expect(status).toBe(0);
    expect(stdout).toMatch(/reload all pages.*no problem.*everything was read anew in \d+ ms/s);
    expect(/\x1b\[3\dm/.test(stdout)).toBe(columns !== 60);
    expect(stdout).not.toMatch(/\x1b\[2J|\x1bc/);
    workspace.dispose();
  },
  60_000,
);

test('a missing package is installed by one key, and the page goes on', () => {
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import 'picocolors';`,
  });
  const keys: [string, string][] = [
    ['installs picocolors', 'i'],
    ['[32msolved', '\u0003'],
  ];
  const { status, stdout } = onTerminal(workspace.root, ['serve', 'index.html', '--port', '0', '--no-cache'], {
    columns: 100,
    keys,
  });
  expect(status).toBe(0);
  expect(stdout).toMatch(/npm install --no-audit --no-fund picocolors.*solved/s);
  // One that is listed comes as it's listed there.
  rmSync(workspace.path('node_modules'), { recursive: true });
  rmSync(workspace.path('package-lock.json'));
  workspace.write({ 'package.json': '{ "dependencies": { "picocolors": "~1.0.0" } }' });
  const again = onTerminal(workspace.root, ['serve', 'index.html', '--port', '0', '--no-cache'], { columns: 100, keys });
  expect(again.stdout).toMatch(
    /It stands in package\.json: run npm install\..*npm install --no-audit --no-fund\b(?! pico).*solved/s,
  );
  expect(readFileSync(workspace.path('package.json'), 'utf8')).toContain('"~1.0.0"');
  expect(readFileSync(workspace.path('node_modules/picocolors/package.json'), 'utf8')).toContain('"version": "1.0.');
  workspace.dispose();
}, 60_000);

test('new asks what nobody said, and nothing else', () => {
  const workspace = Workspace.with({});
  const keys: [string, string][] = [
    ['What is the page made with?', '\x1b[B\x1b[B\x1b[B\r'],
    ['With TypeScript?', 'n\r'],
    ['With utility classes', '\r'],
  ];
  const { status, stdout } = onTerminal(workspace.root, ['new', 'harbour', '--no-install', '--backend'], { columns: 100, keys });
  expect([status, stdout]).toEqual([0, expect.not.stringContaining('With a small backend')]);
  expect(readdirSync(workspace.path('harbour')).sort()).toEqual(
    ['.gitignore', 'README.md', 'backend', 'index.html', 'package.json', 'src', 'vine-spark.config.js'].sort(),
  );
  expect(readdirSync(workspace.path('harbour/src')).sort()).toEqual(['board.vue', 'main.js', 'page.css']);
  workspace.dispose();
});
