import { readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { expect, test } from '@jest/globals';
import { repository } from './support/workspace.js';

/** Which folders of `src` a folder may import from, beside itself. */
const mayImport: Record<string, string[]> = {
  core: [],
  settings: ['core', 'forward', 'project'],
  project: ['core'],
  forward: ['core'],
  server: ['core', 'project', 'forward'],
  browser: ['core'],
  cli: ['core', 'project', 'server', 'forward', 'settings'],
  '.': ['core', 'settings'],
};
/** What the core must do without. */
const notInCore =
  /^(?:node:(?:net|http|https|http2|tls|dgram|child_process|worker_threads|process|readline|tty|fs)(?:\/|$)|chokidar$|ws$|picocolors$|commander$)/;

const source = join(repository, 'src');

function filesIn(folder: string): string[] {
  return readdirSync(folder).flatMap((name) => {
    const path = join(folder, name);
    return statSync(path).isDirectory() ? filesIn(path) : path.endsWith('.ts') ? [path] : [];
  });
}

const layerOf = (file: string) => {
  const inside = relative(source, file);
  return inside.includes('/') ? inside.split('/')[0]! : '.';
};
const importsOf = (file: string) =>
  [...readFileSync(file, 'utf8').matchAll(/^(?:import|export)\b[^'"]*?from '([^']+)'/gm)].map((match) => match[1]!);

test('dependencies point downwards only', () => {
  const wrong: string[] = [];
  for (const file of filesIn(source)) {
    for (const specifier of importsOf(file).filter((name) => name.startsWith('.'))) {
      const from = layerOf(file);
      const to = layerOf(join(dirname(file), specifier));
      if (to !== from && !mayImport[from]?.includes(to)) wrong.push(`${relative(source, file)} imports ${specifier}`);
    }
  }
  expect(wrong).toEqual([]);
});

test('the core has no sockets, watching, terminal or processes', () => {
  const wrong = filesIn(join(source, 'core')).flatMap((file) =>
    importsOf(file)
      .filter((name) => notInCore.test(name))
      .map((name) => `${relative(source, file)}: ${name}`),
  );
  const process = filesIn(join(source, 'core')).filter((file) =>
    /(?<!['.`\w])process\.(?!env\.NODE_ENV)/.test(readFileSync(file, 'utf8').replace(/\/\*[\s\S]*?\*\/|\/\/.*/g, '')),
  );
  expect([...wrong, ...process]).toEqual([]);
});
