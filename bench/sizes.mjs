// What is left of packages of which a little is imported, beside the same imported from the very files that hold it, as somebody would who
// cuts by hand. They are taken from the folder that `npm run test:packages` installs.
//   node bench/sizes.mjs
import { spawnSync } from 'node:child_process';
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { gzipSync } from 'node:zlib';

const repository = fileURLToPath(new URL('..', import.meta.url));
const packages = join(process.env.SPARK_PACKAGES ?? join(repository, '../vine-spark-packages'), 'node_modules');
if (!existsSync(packages)) throw new Error('The packages are not installed yet: npm run test:packages does that.');

/** Name, what is used, an import by name, and imports by file. */
const cases = [
  [
    'date-fns',
    'format(addDays(new Date(0), 1), "yyyy")',
    `import { format, addDays } from 'date-fns';`,
    `import { format } from 'date-fns/format'; import { addDays } from 'date-fns/addDays';`,
  ],
  [
    'lodash-es',
    'sortBy([2, 1]), debounce',
    `import { sortBy, debounce } from 'lodash-es';`,
    `import sortBy from 'lodash-es/sortBy.js'; import debounce from 'lodash-es/debounce.js';`,
  ],
  [
    '@mui/icons-material',
    'Anchor',
    `import { Anchor } from '@mui/icons-material';`,
    `import Anchor from '@mui/icons-material/Anchor';`,
  ],
  ['zod', 'object({ berth: string() }).parse', `import { object, string } from 'zod';`],
  ['lucide-react', 'Anchor, Ship', `import { Anchor, Ship } from 'lucide-react';`],
  ['d3', 'line(), scaleLinear()', `import { line, scaleLinear } from 'd3';`],
  ['react-router', 'BrowserRouter, Routes, Route', `import { BrowserRouter, Routes, Route } from 'react-router';`],
  [
    'echarts',
    'init, use([BarChart, GridComponent, CanvasRenderer])',
    `import { init, use } from 'echarts/core'; import { BarChart } from 'echarts/charts'; import { GridComponent } from 'echarts/components'; import { CanvasRenderer } from 'echarts/renderers';`,
    `import { init } from 'echarts/lib/core/echarts.js'; import { use } from 'echarts/lib/extension.js'; import { install as BarChart } from 'echarts/lib/chart/bar/install.js'; import { install as GridComponent } from 'echarts/lib/component/grid/install.js'; import { install as CanvasRenderer } from 'echarts/lib/renderer/installCanvasRenderer.js';`,
  ],
];

/** The bytes of what is built of a text, and those compressed with gzip. */
function built(text) {
  const folder = mkdtempSync(join(tmpdir(), 'vine-sizes-'));
  symlinkSync(packages, join(folder, 'node_modules'));
  writeFileSync(join(folder, 'package.json'), '{ "type": "module" }');
  writeFileSync(join(folder, 'index.html'), '<!doctype html><script type="module" src="main.js"></script>');
  writeFileSync(join(folder, 'main.js'), text);
  const args = [join(repository, 'dist/cli/main.js'), 'build', '--no-cache', '--source-maps', 'off'];
  const { status, stderr } = spawnSync(process.execPath, args, { cwd: folder, encoding: 'utf8' });
  if (status !== 0) throw new Error(stderr);
  const assets = join(folder, 'dist/assets');
  const own = readdirSync(assets).filter((name) => /^index.*\.js$/.test(name));
  const texts = own.map((name) => readFileSync(join(assets, name)));
  rmSync(folder, { recursive: true });
  return {
    bytes: texts.reduce((sum, { length }) => sum + length, 0),
    gzip: texts.reduce((sum, text) => sum + gzipSync(text).length, 0),
  };
}

console.log('| package | by name | gzip | by file | ratio |\n| --- | --- | --- | --- | --- |');
for (const [name, use, named, deep] of cases) {
  const ours = built(`${named}\nconsole.log(${use});\n`);
  const cut = deep && built(`${deep}\nconsole.log(${use});\n`);
  const { version } = JSON.parse(readFileSync(join(packages, name, 'package.json'), 'utf8'));
  console.log(
    `| ${name} ${version} | ${ours.bytes} | ${ours.gzip} | ${cut?.bytes ?? 'it has no such files'} | ${cut ? (ours.bytes / cut.bytes).toFixed(3) : ''} |`,
  );
}
