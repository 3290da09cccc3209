import { randomNumbers } from './random-program.js';

/** How a component of the soak application is written. */
const forms = ['function', 'arrow', 'memo', 'default', 'forward', 'class', 'mixed'] as const;
type Form = (typeof forms)[number];

interface Part {
  name: string;
  /** File name without extension; changes when the file is moved. */
  file: string;
  text: string;
  form: Form;
  hooks: string[];
  children: string[];
  helpers: string[];
  sheets: string[];
  throws: boolean;
  lazy: boolean;
}

interface Helper {
  name: string;
  value: number;
  names: string[];
  from: string[];
  live: boolean;
}

interface Sheet {
  file: string;
  kind: 'plain' | 'module' | 'sass';
  hue: number;
  rules: number;
  /** What it imports or uses. */
  uses: string[];
}

/** The model behind the application's files: edits change it, and what differs is written. */
export interface SoakApp {
  parts: Map<string, Part>;
  helpers: Map<string, Helper>;
  sheets: Map<string, Sheet>;
  json: number;
  svg: number;
  hookDelay: number;
  bodyClass: string;
  /** A file that holds something wrong, until it is mended. */
  broken?: { file: string; text: string };
  made: number;
}

/** An application of some 60 modules. */
export function makeSoakApp(seed: number): SoakApp {
  const random = randomNumbers(seed);
  const app: SoakApp = {
    parts: new Map(),
    helpers: new Map(),
    sheets: new Map(),
    json: 1,
    svg: 1,
    hookDelay: 1,
    bodyClass: 'quay',
    made: 100,
  };
  for (let n = 0; n < 10; n++)
    app.helpers.set(`h${n}`, {
      name: `h${n}`,
      value: n,
      names: [`h${n}`],
      from: n > 0 ? [`h${random(n)}`] : [],
      live: n % 3 === 0,
    });
  for (let n = 0; n < 12; n++) {
    const kind = (['plain', 'module', 'sass'] as const)[n % 3]!;
    const uses = kind === 'plain' && n > 2 ? [`s${3 * random(n / 3)}.css`] : [];
    const file = { plain: `s${n}.css`, module: `s${n}.module.css`, sass: `s${n}.scss` }[kind];
    app.sheets.set(file, { file, kind, hue: n * 20, rules: 1, uses });
  }
  for (let n = 0; n < 30; n++) {
    const name = `P${n}`;
    app.parts.set(name, {
      name,
      file: name.toLowerCase(),
      text: `berth ${n}`,
      form: n === 0 ? 'function' : forms[random(forms.length)]!,
      hooks: random(3) === 0 ? ['useTide'] : [],
      children: [],
      helpers: [`h${random(10)}`],
      sheets: random(2) === 0 ? [[...app.sheets.keys()][random(12)]!] : [],
      throws: false,
      lazy: false,
    });
    if (n > 0) app.parts.get(`P${random(Math.min(n, 6 + n / 3) | 0)}`)!.children.push(name);
  }
  return app;
}

/** The application's files. */
export function soakFiles(app: SoakApp): Record<string, string> {
  const files: Record<string, string> = {
    'index.html': `<!doctype html><title>Quay</title><body class="${app.bodyClass}"><div id="app"></div><script type="module" src="src/main.tsx"></script>`,
    'src/main.tsx': `import { createRoot } from 'react-dom/client';\nimport { P0 } from './parts/${app.parts.get('P0')!.file}';\nimport './base.css';\ncreateRoot(document.getElementById('app')!).render(<P0 />);\n`,
    'src/base.css': `body { margin: 4px; background-image: url('./mark.svg'); }\n`,
    'src/tide.json': JSON.stringify({ level: app.json }),
    'src/mark.svg': `<svg xmlns="http://www.w3.org/2000/svg" width="${app.svg}" height="4"/>`,
    'src/use-tide.ts': `import { useState, useRef } from 'react';\nexport function useTide() { const [at] = useState('t'); ${app.hookDelay % 2 ? '' : 'useRef(null);'} return at + ${app.hookDelay}; }\n`,
    'src/use-level.ts': `import tide from './tide.json';\nexport function useLevel() { return tide.level; }\n`,
    'src/styles/_shades.scss': `$shade: ${app.json * 3}px;\n`,
  };
  for (const helper of app.helpers.values()) files[`src/lib/${helper.name}.ts`] = helperText(helper);
  for (const sheet of app.sheets.values()) files[`src/styles/${sheet.file}`] = sheetText(sheet);
  for (const part of app.parts.values()) files[`src/parts/${part.file}.tsx`] = partText(app, part);
  if (app.broken) files[app.broken.file] = app.broken.text;
  return files;
}

/** How many components the page shows: none where one of them throws. */
export function partsShown(app: SoakApp): number {
  const below = (name: string): string[] => [name, ...app.parts.get(name)!.children.flatMap(below)];
  const shown = below('P0');
  return shown.some((name) => app.parts.get(name)!.throws) ? 0 : shown.length;
}

function helperText({ name, value, names, from, live }: Helper): string {
  const imports = from.map((other) => `import { ${other} } from './${other}';\n`).join('');
  const sum = from.map((other) => ` + ${other}()`).join('');
  const own = live
    ? `export let ${name} = () => 0;\n${name} = () => ${value}${sum};\n`
    : `export const ${name} = () => ${value}${sum};\n`;
  return (
    imports +
    own +
    names
      .slice(1)
      .map((other, index) => `export const ${other} = ${value + index};\n`)
      .join('')
  );
}

function sheetText({ file, kind, hue, rules, uses }: Sheet): string {
  const name = file.replace(/\..*/, '');
  const head = kind === 'sass' ? `@use 'shades';\n` : uses.map((other) => `@import './${other}';\n`).join('');
  const extra = kind === 'sass' ? ' padding-left: shades.$shade;' : '';
  const rows = Array.from(
    { length: rules },
    (_, n) =>
      `.${kind === 'module' ? 'own' : `tone${n ? hue % 5 : ''}`} { color: hsl(${hue + n} 50% 40%); border-left: ${n + 1}px solid; margin-top: ${name.length + n}px;${extra} }\n`,
  );
  return head + rows.join('');
}

function partText(app: SoakApp, part: Part): string {
  const { name, form, hooks, children, helpers, sheets, text, throws } = part;
  const imports = [`import { Component, forwardRef, lazy, memo, Suspense, useEffect, useRef, useState } from 'react';`];
  for (const child of children.map((id) => app.parts.get(id)!)) {
    if (child.lazy)
      imports.push(
        `const ${child.name} = lazy(() => import('./${child.file}').then((m) => ({ default: ${child.form === 'default' ? 'm.default' : `m.${child.name}`} })));`,
      );
    else
      imports.push(
        child.form === 'default'
          ? `import ${child.name} from './${child.file}';`
          : `import { ${child.name} } from './${child.file}';`,
      );
  }
  for (const helper of helpers) imports.push(`import { ${app.helpers.get(helper)!.names.join(', ')} } from '../lib/${helper}';`);
  for (const hook of hooks) imports.push(`import { ${hook} } from '../${hook === 'useTide' ? 'use-tide' : 'use-level'}';`);
  let own = '';
  for (const sheet of sheets) {
    if (sheet.includes('.module.')) {
      imports.push(`import ${sheet.replace(/\W.*/, '')} from '../styles/${sheet}';`);
      own += ` \${${sheet.replace(/\W.*/, '')}.own}`;
    } else imports.push(`import '../styles/${sheet}';`);
  }
  const values = helpers.flatMap((helper) =>
    app.helpers.get(helper)!.names.map((value, n) => (n ? `{${value}}` : `{${value}()}`)),
  );
  const hookLines = hooks.map((hook) => (hook === 'useRef' ? '' : `const ${hook.toLowerCase()} = ${hook}();`)).join(' ');
  const shown = hooks.map((hook) => `{${hook.toLowerCase()}}`).join(' ');
  const body = (held: string, click: string, hook: string) =>
    `<section className={\`tone tone2${own}\`} data-part="${name}"><b>${text}</b><i>${values.join(' ')} ${hook}</i><button onClick={${click}}>{${held}}</button><Suspense fallback={null}>${children.map((child) => `<${child} />`).join('')}</Suspense></section>`;
  const fail = throws ? `throw new RangeError('${name} ran aground');` : '';
  const inside = `const [held, setHeld] = useState(0); ${hookLines} ${fail}\n  return ${body('held', '() => setHeld(held + 1)', shown)};`;
  const written: Record<Form, string> = {
    function: `export function ${name}() {\n  ${inside}\n}`,
    arrow: `export const ${name} = () => {\n  ${inside}\n};`,
    memo: `export const ${name} = memo(function Inner() {\n  ${inside}\n});`,
    default: `export default function ${name}() {\n  ${inside}\n}`,
    forward: `export const ${name} = forwardRef((_, ref) => {\n  ${inside}\n});`,
    class: `export class ${name} extends Component {\n  state = { held: 0 };\n  render() { ${fail} const held = this.state.held;\n  return ${body('held', '() => this.setState({ held: held + 1 })', '')}; }\n}`,
    mixed: `export const limit${name} = ${text.length};\nexport function ${name}() {\n  ${inside}\n}`,
  };
  return `${imports.join('\n')}\n\n${written[form]}\n`;
}

/** What an edit was and what it may cost. */
export interface SoakEdit {
  what: string;
  /** No component may lose its state by it. */
  keepsState: boolean;
}

type Random = (below: number) => number;

/** Changes the model in one random way. */
export function editSoakApp(app: SoakApp, random: Random): SoakEdit {
  if (app.broken && random(2) === 0) {
    const { file } = app.broken;
    delete app.broken;
    return { what: `mend ${file}`, keepsState: false };
  }
  for (;;) {
    const edit = edits[random(edits.length)]!(app, random);
    if (edit) return typeof edit === 'string' ? { what: edit, keepsState: false } : edit;
  }
}

const pick = <T>(items: Iterable<T>, random: Random): T => {
  const all = [...items];
  return all[random(all.length)]!;
};
const inner = (app: SoakApp) => [...app.parts.values()].filter(({ name }) => name !== 'P0');
const kept = (what: string): SoakEdit => ({ what, keepsState: true });
const usedSheets = (app: SoakApp) => new Set([...app.parts.values()].flatMap(({ sheets }) => sheets));

const edits: ((app: SoakApp, random: Random) => SoakEdit | string | undefined)[] = [
  ...Array.from({ length: 5 }, () => (app: SoakApp, random: Random) => {
    const part = pick(app.parts.values(), random);
    part.text = `tide ${++app.made}`;
    // Classes start anew, and so does what a re-run importer that is one holds.
    return part.form === 'class' || part.form === 'mixed' ? `text of ${part.name}` : kept(`text of ${part.name}`);
  }),
  (app, random) => {
    const part = pick(app.parts.values(), random);
    const hook = pick(['useTide', 'useLevel'], random);
    if (part.form === 'class') return undefined;
    part.hooks = part.hooks.includes(hook) ? part.hooks.filter((other) => other !== hook) : [...part.hooks, hook];
    return `hooks of ${part.name}`;
  },
  (app) => {
    app.hookDelay++;
    return 'the custom hook';
  },
  (app, random) => {
    const helper = pick(app.helpers.values(), random);
    helper.value = ++app.made;
    return `value of ${helper.name}`;
  },
  (app, random) => {
    const helper = pick(app.helpers.values(), random);
    if (helper.names.length > 2) helper.names.pop();
    else helper.names.push(`x${++app.made}`);
    return `exports of ${helper.name}`;
  },
  (app, random) => {
    const helper = pick(app.helpers.values(), random);
    helper.live = !helper.live;
    return `how ${helper.name} exports`;
  },
  (app, random) => {
    const part = pick(app.parts.values(), random);
    const helper = `h${random(10)}`;
    part.helpers = part.helpers.includes(helper) ? part.helpers.filter((other) => other !== helper) : [...part.helpers, helper];
    return `helpers of ${part.name}`;
  },
  ...Array.from({ length: 3 }, () => (app: SoakApp, random: Random) => {
    const sheet = app.sheets.get(pick(usedSheets(app), random) ?? '');
    if (!sheet) return undefined;
    sheet.hue = (sheet.hue + 7) % 360;
    return sheet.kind === 'module' ? `colours of ${sheet.file}` : kept(`colours of ${sheet.file}`);
  }),
  (app, random) => {
    const sheet = pick(app.sheets.values(), random);
    sheet.rules = 1 + (sheet.rules % 3);
    return `rules of ${sheet.file}`;
  },
  (app, random) => {
    const sheet = pick(
      [...app.sheets.values()].filter(({ kind }) => kind === 'plain'),
      random,
    );
    const other = pick(
      [...app.sheets.values()].filter(({ kind, file }) => kind === 'plain' && file !== sheet.file),
      random,
    );
    if (reaches(app, other.file, sheet.file)) return undefined;
    sheet.uses = sheet.uses.includes(other.file) ? [] : [other.file];
    return `imports of ${sheet.file}`;
  },
  ...Array.from({ length: 2 }, () => (app: SoakApp, random: Random) => {
    const part = pick(app.parts.values(), random);
    const sheet = pick(app.sheets.keys(), random);
    part.sheets = part.sheets.includes(sheet) ? part.sheets.filter((other) => other !== sheet) : [...part.sheets, sheet];
    return `sheets of ${part.name}`;
  }),
  (app, random) => {
    const part = pick(app.parts.values(), random);
    if (part.sheets.length < 2) return undefined;
    part.sheets.reverse();
    return `order of the sheets of ${part.name}`;
  },
  (app, random) => {
    const parent = pick(app.parts.values(), random);
    const name = `P${++app.made}`;
    app.parts.set(name, {
      name,
      file: name.toLowerCase(),
      text: 'new',
      form: pick(forms, random),
      hooks: [],
      children: [],
      helpers: ['h1'],
      sheets: [],
      throws: false,
      lazy: random(3) === 0,
    });
    parent.children.push(name);
    return `new file ${name} in ${parent.name}`;
  },
  (app, random) => {
    const leaf = pick(
      inner(app).filter(({ children }) => children.length === 0),
      random,
    );
    if (!leaf || app.parts.size < 20) return undefined;
    for (const part of app.parts.values()) part.children = part.children.filter((child) => child !== leaf.name);
    app.parts.delete(leaf.name);
    return `delete ${leaf.name}`;
  },
  (app, random) => {
    const part = pick(inner(app), random);
    part.file = `${part.name.toLowerCase()}-${++app.made}`;
    return `move ${part.name}`;
  },
  (app, random) => {
    const part = pick(inner(app), random);
    part.form = pick(forms, random);
    return `form of ${part.name}: ${part.form}`;
  },
  (app, random) => {
    const part = pick(app.parts.values(), random);
    if (part.children.length < 2) return undefined;
    part.children.reverse();
    return `order of the children of ${part.name}`;
  },
  (app, random) => {
    const part = pick(inner(app), random);
    part.lazy = !part.lazy;
    return `laziness of ${part.name}`;
  },
  (app) => {
    app.json++;
    return 'the JSON file and the Sass partial';
  },
  (app) => {
    app.svg++;
    return kept('the image');
  },
  (app) => {
    app.bodyClass = `quay${++app.made}`;
    return 'the page';
  },
  (app, random) => {
    const throwing = [...app.parts.values()].find(({ throws }) => throws);
    if (throwing) {
      throwing.throws = false;
      return `${throwing.name} renders again`;
    }
    const part = pick(inner(app), random);
    part.throws = true;
    return `${part.name} throws`;
  },
  (app, random) => {
    if (app.broken) return undefined;
    const part = pick(app.parts.values(), random);
    const file = `src/parts/${part.file}.tsx`;
    const text = pick(
      [`export function (`, `import { nowhere } from '../lib/h1';\nexport const a = nowhere;`, `import '../lib/missing';`],
      random,
    );
    app.broken = { file, text };
    return `break ${file}`;
  },
  (app, random) => {
    if (app.broken) return undefined;
    const used = pick(usedSheets(app), random);
    if (used === undefined) return undefined;
    const [file, text] = [`src/styles/${used}`, used.endsWith('.scss') ? '@use "nowhere";' : '.tone { color: red'];
    app.broken = { file, text: used.endsWith('.scss') ? text : `@import './nowhere.css';` };
    return `break ${file}`;
  },
];

function reaches(app: SoakApp, from: string, to: string): boolean {
  return from === to || (app.sheets.get(from)?.uses ?? []).some((other) => reaches(app, other, to));
}
