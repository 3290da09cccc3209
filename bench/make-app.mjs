// Writes an application of a given size: components of about 60 lines with 6 imports, shared leaves, a style for every
// tenth, and routes behind `import()`.
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const repository = fileURLToPath(new URL('..', import.meta.url));

/**
 * @param {string} folder an empty folder
 * @param {number} size number of components
 * @param {number} routeSize components of one route; all are in one unless it's given
 * @returns {{ component(n: number, word: string): string, style(n: number, green: number): string, path(n: number): string }}
 */
export function makeApp(folder, size, routeSize = Number.POSITIVE_INFINITY) {
  const app = {
    path: (n) => `src/berths/group${Math.floor(n / 100)}/berth${n}.tsx`,
    component: (n, word) => component(n, word, { size, routeSize }),
    style: (n, green) => `.berth${n} { color: rgb(0, ${green}, 60); padding: 2px; }\n.berth${n} > b { font-weight: 600; }\n`,
  };
  let sourceBytes = 0;
  const write = (path, text) => {
    sourceBytes += text.length;
    const file = join(folder, path);
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, text);
  };
  write('package.json', '{ "name": "harbour", "type": "module" }');
  write(
    'index.html',
    '<!doctype html><title>Harbour</title><div id="app"></div><script type="module" src="src/main.tsx"></script>',
  );
  write(
    'src/main.tsx',
    `import { createRoot } from 'react-dom/client';\nimport { Berth0 } from './berths/group0/berth0';\ncreateRoot(document.getElementById('app')!).render(<Berth0 depth={0} />);\n`,
  );
  for (let n = 0; n < 20; n++) write(`src/shared/leaf${n}.ts`, leaf(n));
  for (let n = 0; n < size; n++) {
    write(app.path(n), app.component(n, 'berth'));
    if (n % 10 === 0) write(app.path(n).replace('.tsx', '.css'), app.style(n, 90));
  }
  // A folder of its own, so that what is kept for the next start is this application's.
  mkdirSync(join(folder, 'node_modules'), { recursive: true });
  for (const name of ['react', 'react-dom', 'scheduler'])
    symlinkSync(join(repository, 'node_modules', name), join(folder, 'node_modules', name));
  return { ...app, sourceBytes };
}

function leaf(n) {
  return `export interface Tide${n} { level: number; at: number }
export const limit${n}: number = ${n * 3};
export function tide${n}({ level, at }: Tide${n}): number {
  return Math.round((level * Math.cos(at) + limit${n}) * 10) / 10;
}
`;
}

/** Two components below each, in the same route: a tree that every page load draws three levels of. */
function component(n, word, { size, routeSize }) {
  const route = Number.isFinite(routeSize) ? Math.floor(n / routeSize) * routeSize : 0;
  const children = [2 * (n - route) + 1, 2 * (n - route) + 2]
    .map((place) => route + place)
    .filter((at) => at < Math.min(size, route + routeSize));
  const imports = children.map((at) => `import { Berth${at} } from '../group${Math.floor(at / 100)}/berth${at}';`);
  for (let k = 0; imports.length < 5; k++)
    imports.push(`import { tide${(n + 7 * k) % 20} as tideOf${k} } from '../../shared/leaf${(n + 7 * k) % 20}';`);
  if (n % 10 === 0) imports.push(`import './berth${n}.css';`);
  const next = route + routeSize;
  const later =
    n === route && next < size
      ? `const Next = lazy(() => import('../group${Math.floor(next / 100)}/berth${next}').then((m) => ({ default: m.Berth${next} })));`
      : '';
  return `import { ${later ? 'lazy, ' : ''}useCallback, useMemo, useState } from 'react';
${imports.join('\n')}
${later}
interface Departure${n} {
  vessel: string;
  berth: number;
  minutes: number;
  held: boolean;
}

interface Berth${n}Props {
  depth: number;
  onHold?: (departure: Departure${n}) => void;
}

const departures: Departure${n}[] = [
  { vessel: 'Curlew', berth: ${n}, minutes: 545, held: false },
  { vessel: 'Sandpiper', berth: ${n + 1}, minutes: 610, held: true },
  { vessel: 'Oystercatcher', berth: ${n + 2}, minutes: 745, held: false },
];

function clock${n}(minutes: number): string {
  const hours = Math.floor(minutes / 60);
  return \`\${String(hours).padStart(2, '0')}:\${String(minutes % 60).padStart(2, '0')}\`;
}

/** The berth and what leaves from it. */
export function Berth${n}({ depth, onHold }: Berth${n}Props) {
  const [held, setHeld] = useState<number>(0);
  const next = useMemo(() => departures.filter((departure) => !departure.held).sort((a, b) => a.minutes - b.minutes)[0], []);
  const hold = useCallback(() => {
    setHeld((count) => count + 1);
    if (next) onHold?.(next);
  }, [next, onHold]);
  const level = ${
    imports
      .filter((line) => line.includes('tideOf'))
      .map((_, k) => `tideOf${k}({ level: held, at: depth })`)
      .join(' + ') || '0'
  };
  if (depth > 3) return null;
  return (
    <section className="berth${n}">
      <b id="berth${n}">${word} ${n}</b>
      <button type="button" onClick={hold} disabled={!next}>
        held {held}
      </button>
      <i>{next ? clock${n}(next.minutes) : 'none'}</i>
      <u>{level}</u>
${children.map((at) => `      <Berth${at} depth={depth + 1} />`).join('\n')}
    </section>
  );
}
${later ? `export { Next as Next${n} };\n` : ''}`;
}
