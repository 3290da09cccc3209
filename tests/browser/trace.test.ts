import { readFileSync } from 'node:fs';
import { expect, test } from '@jest/globals';
import { ServedPage } from '../support/served-page.js';

interface Event {
  name: string;
  cat: string;
  ph: string;
  ts: number;
  dur?: number;
  pid: number;
  tid: number;
  id?: string;
  args?: Record<string, unknown>;
}

const served = new ServedPage();

test('a trace holds every stage of the start and of each update, that of the browser included', async () => {
  await served.start(
    {
      'index.html': '<!doctype html><title>Quay</title><script type="module" src="src/main.ts"></script>',
      'src/main.ts': `import { tide } from './tide';\ndocument.title = tide;\nimport.meta.live?.take();\n`,
      'src/tide.ts': `export const tide: string = 'low';\n`,
    },
    ['index.html', '--trace', 'trace.json'],
  );
  await served.save({ 'src/tide.ts': `export const tide: string = 'high';\n` });
  expect(await served.page.title()).toBe('high');
  await served.program.stop();
  const text = readFileSync(served.workspace.path('trace.json'), 'utf8');
  const events = JSON.parse(`${text.trim().replace(/,$/, '')}]`) as Event[];

  for (const { ts, ph, dur, pid, tid } of events) {
    expect([Number.isInteger(ts) && ts >= 0, pid, Number.isInteger(tid)]).toEqual([true, 1, true]);
    if (ph === 'X') expect(dur).toBeGreaterThanOrEqual(0);
  }
  const ends = new Set(events.filter(({ ph }) => ph === 'e').map(({ id }) => id));
  const begun = events.filter(({ ph }) => ph === 'b');
  expect(begun.filter(({ id }) => !ends.has(id))).toEqual([]);

  const names = (category: string) => new Set(events.filter(({ cat }) => cat === category).map(({ name }) => name));
  expect(names('start')).toEqual(
    new Set(['loading the program', 'settings', 'pages', 'listen', 'packages and cache', 'modules', 'watch']),
  );
  expect([...names('module')].sort()).toEqual(['graph', 'link', 'read and hash', 'resolve', 'translate']);
  expect(names('update')).toEqual(
    new Set([
      'waiting for more changes',
      'whom the changes concern',
      'modules',
      'make the update',
      'send the update',
      'update 1, from the save on',
    ]),
  );
  expect([...names('browser')]).toEqual(['receive', 'plan', 'run', 'render', 'styles and files']);
  expect(begun.some(({ cat, name }) => cat === 'request' && name === 'GET /')).toBe(true);
  const lanes = events.filter(({ ph }) => ph === 'M').map(({ args }) => args?.name);
  expect(lanes).toEqual(['server', 'translator threads', 'browsers']);
});
