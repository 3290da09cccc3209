import { spawn } from 'node:child_process';
import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join, relative } from 'node:path';
import { expect, test } from '@jest/globals';
import WebSocket from 'ws';
import { liveProtocol } from '../../src/core/live/messages.js';
import { shownText } from '../../src/core/text/shown-text.js';
import { Program } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

const main = join(repository, 'dist/cli/main.js');
const nasty =
  '\u001b[2J\u001b]0;owned\u0007\u009b31m\u202ereversed\u2066\r\n  12:00:00  main.js  updated in place, state kept\n✖ forged\u0000\u0008\u007f\u2028x';
// biome-ignore lint/complexity/useRegexLiterals: the characters would be invisible
const controls = new RegExp(
  '[\\u0000-\\u0008\\u000b-\\u001f\\u007f-\\u009f\\u061c\\u200e\\u200f\\u2028-\\u202e\\u2066-\\u2069]',
  'u',
);

test.each(isLong ? [false, true] : [false])(
  'what pages, backends, packages and names of files say is shown and not obeyed; as NDJSON: %s',
  async (isJson) => {
    const named = `src/ti\u001b[31mde\u202e\n  12:00:00  forged.js`;
    const workspace = Workspace.with({
      'index.html': '<!doctype html><title>Quay</title><script type="module" src="main.js"></script>',
      'main.js': `import ${JSON.stringify(`./${named.split('/').map(encodeURIComponent).join('/')}`)};\n`,
      [named]: 'export {};\n',
      'node_modules/evil\u001b[2J/package.json': '{}',
    });
    const child = spawn(
      process.execPath,
      [
        main,
        'serve',
        'index.html',
        '--port',
        '0',
        '--traffic',
        '--forward',
        '/api=http://127.0.0.1:9',
        ...(isJson ? ['--json'] : []),
      ],
      { cwd: workspace.root, env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1', FORCE_COLOR: '' } },
    );
    let out = '';
    const waiting = new Set<() => void>();
    child.stdout.on('data', (data) => {
      out += data;
      for (const look of waiting) look();
    });
    const until = (text: string | RegExp) =>
      new Promise<void>((resolve) => {
        const look = () => {
          if (out.search(text) === -1) return;
          waiting.delete(look);
          resolve();
        };
        waiting.add(look);
        look();
      });
    await until(/read in|"ready"/);
    const url = /http:\/\/localhost:\d+\//.exec(out)![0];
    const { key } = (await (await fetch(`${url}~spark/session`)).json()) as { key: string };
    const socket = new WebSocket(
      `${url.replace('http', 'ws')}~spark/live?key=${key}&page=${encodeURIComponent(nasty)}&session=x&revision=0`,
      liveProtocol,
      { headers: { 'user-agent': 'Firefox/1 \u0085' } },
    );
    await new Promise((resolve) => socket.on('open', resolve));
    socket.send(JSON.stringify({ type: 'error', message: `said ${nasty}`, stack: '', during: 'life', pieces: {} }));
    await until('said');
    workspace.write({ [named]: 'export const a = 1;\n' });
    await until(/forged\.js/);
    socket.send(JSON.stringify({ type: 'reloaded', update: 1, reason: `because ${nasty}`, chain: [nasty, nasty] }));
    await until('because');
    workspace.write({ 'main.js': `import 'evil\\u001b[2J/\\u202e';\nimport './no\\u009bne\\n  12:00:00  x';\n` });
    await until('import-unresolved');
    await fetch(`${url}api/${'%1b[2J'}`).catch(() => {});
    await until(/api\/%1b/);
    const lines = out.split('\n');
    expect(lines.filter((line) => controls.test(line))).toEqual([]);
    // A line of ours begins with the time of day; the only ones are those of today.
    expect(lines.filter((line) => /^\s*12:00:00|^✖/.test(line))).toEqual([]);
    if (isJson) for (const line of lines.filter((text) => text !== '')) expect(() => JSON.parse(line)).not.toThrow();
    socket.close();
    const ended = new Promise((resolve) => child.once('exit', resolve));
    child.kill();
    await ended;
    workspace.dispose();
  },
);

test('what is printed of itself loses nothing that can be read', () => {
  expect(shownText('caf\u00e9 \u6e2f \u{1f6a2} \u{1f468}\u200d\u{1f527} a\tb')).toBe(
    'caf\u00e9 \u6e2f \u{1f6a2} \u{1f468}\u200d\u{1f527} a\\u{9}b',
  );
  expect(shownText('\u001b[1m\ud800')).toBe('\\u{1b}[1m\\u{d800}');
});

/** What makes something that tells of errors by an event which ends the process where nobody listens. */
const makers: [maker: RegExp, listener: RegExp][] = [
  [/\bcreateServer\(/g, /\.(?:on|once)\('error'/],
  [/(?<![.\w])connect\(/g, /\.(?:on|once)\('error'/],
  [/\b(?:https?Request)\(/g, /\.on\('error'/],
  [/\bspawn\(/g, /\.on\('error'/],
  [/\bcreate(?:Read|Write)Stream\(/g, /pipeline|finished/],
  [/(?<![.\w])watch\((?=\[|packageFolders)/g, /\.on\('error'/],
  [/new WebSocketServer\(/g, /on\('error', \(\) => socket\.terminate/],
  [/\.pipe\(/g, /\.on\('error'/],
  [/new Worker\(/g, /\.on\('error'/],
  [/handleUpgrade\(/g, /socket\.on\('error'/],
];
/** Files whose emitters are listened to by those who get them. */
const listenedElsewhere: Record<string, string> = {
  'forward/backend-link.ts': 'src/forward/exchange.ts and src/forward/forwarder.ts listen to each request',
  'settings/schema.ts': 'makes none',
};

test('whatever tells of errors by an event has a listener', () => {
  const source = join(repository, 'src');
  const files = readdirSync(source, { recursive: true })
    .map(String)
    .filter((name) => name.endsWith('.ts') && !name.startsWith('browser/') && statSync(join(source, name)).isFile());
  const owners: string[] = [];
  const alone: string[] = [];
  for (const name of files) {
    const text = readFileSync(join(source, name), 'utf8').replace(/\/\*[\s\S]*?\*\/|\/\/.*/g, '');
    for (const [maker, listener] of makers) {
      if (!maker.test(text)) continue;
      maker.lastIndex = 0;
      owners.push(relative(source, join(source, name)));
      if (!listener.test(text) && !(name in listenedElsewhere)) alone.push(`${name}: ${maker.source}`);
    }
  }
  expect(alone).toEqual([]);
  // The server, its sockets and the exchanges are among them: the list sees what it is there for.
  expect(owners).toEqual(
    expect.arrayContaining([
      'server/http/front-door.ts',
      'forward/exchange.ts',
      'forward/backend-link.ts',
      'project/live/watcher.ts',
      'project/read/trial.ts',
    ]),
  );
});

test('a limit of watched folders is told once, and changes are found by looking', async () => {
  const folders = Object.fromEntries(Array.from({ length: 12 }, (_, n) => [`src/f${n}/m.js`, `export const m${n} = 1;\n`]));
  const workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': Object.keys(folders)
      .map((name) => `import './${name}';`)
      .join('\n'),
    ...folders,
    // A system whose limit is reached after four folders: the real one is everybody's.
    'limit.cjs': `const fs = require('node:fs');\nconst { watch } = fs;\nlet left = 4;\nfs.watch = (...all) => { if (left-- > 0) return watch(...all); throw Object.assign(new Error('ENOSPC: System limit for number of file watchers reached'), { code: 'ENOSPC', errno: -28, syscall: 'watch' }); };\nrequire('node:module').syncBuiltinESMExports();\n`,
  });
  const child = spawn(
    process.execPath,
    ['--require', workspace.path('limit.cjs'), main, 'serve', 'index.html', '--port', '0', '--json', '--no-cache'],
    {
      cwd: workspace.root,
      env: { ...process.env, NODE_OPTIONS: '' },
    },
  );
  const program = Program.of(child);
  const { text } = await program.next('note');
  expect(text).toMatch(/ENOSPC.*fs\.inotify\.max_user_watches/);
  await program.next('ready');
  workspace.write({ 'src/f11/m.js': 'export const m11 = 2;\n' });
  expect((await program.next('update')).changed).toEqual(['src/f11/m.js']);
  expect(program.events.filter(({ event }) => event === 'note')).toHaveLength(1);
  await program.stop();
  workspace.dispose();
});
