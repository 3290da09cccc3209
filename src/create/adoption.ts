import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join, relative, sep } from 'node:path';
import { parseJson } from '../core/text/json.js';

/** What a project that is there needs so that it is served and built, with where that was seen. */
export interface Proposal {
  /** The settings file, by its name; absent where none is needed. */
  settings?: { file: string; text: string };
  /** Lines for `scripts` of package.json. */
  scripts: Record<string, string>;
  /** What was found, in sentences. */
  findings: string[];
}

interface Description {
  scripts?: Record<string, string>;
  dependencies?: Record<string, string>;
  devDependencies?: Record<string, string>;
}

const skipped = /^(?:node_modules|dist|build|out|coverage|\..*)$/;
const pagePlaces = [
  'index.html',
  'public/index.html',
  'src/index.html',
  'static/index.html',
  'app/index.html',
  'client/index.html',
];
const entryPlaces = ['main', 'index', 'app', 'client'].flatMap((name) =>
  ['tsx', 'jsx', 'ts', 'js'].map((extension) => `src/${name}.${extension}`),
);

/** Reads a project's pages, sources, scripts and servers. Nothing is run. */
export function proposeAdoption(root: string): Proposal {
  const description = readJson(join(root, 'package.json')) ?? {};
  const files = filesIn(root).map((path) => relative(root, path).split(sep).join('/'));
  const texts = new Map<string, string>();
  const textOf = (file: string) => {
    const known = texts.get(file) ?? readFileSync(join(root, file), 'utf8');
    texts.set(file, known);
    return known;
  };
  const findings: string[] = [];
  const lines: string[] = [];
  pages(files, textOf, { findings, lines });
  servers(root, files, textOf, { description, findings, lines });
  environment(files, textOf, { findings, lines });
  for (const [pattern, what] of [
    [/^postcss\.config\.|^\.postcssrc/, 'PostCSS configuration is read as it is'],
    [/^tsconfig\.json$|^jsconfig\.json$/, 'paths and JSX of tsconfig.json are read as they are'],
    [/^\.browserslistrc$/, 'browserslist is read as it is'],
  ] as const)
    if (files.some((file) => pattern.test(file))) findings.push(what);
  const isTypeScript = files.some((file) => /\.tsx?$/.test(file) && !file.endsWith('.d.ts'));
  const file = `vine-spark.config.${isTypeScript ? 'ts' : 'js'}`;
  const isSettled = files.some(isSettingsFile);
  if (isSettled) findings.push('there are settings of Vine Spark already, which stay as they are');
  const taken = description.scripts ?? {};
  const scripts: Record<string, string> = {};
  for (const [name, command] of [
    ['serve', 'vine-spark serve'],
    ['build', 'vine-spark build'],
  ] as const) {
    if (Object.values(taken).includes(command)) continue;
    scripts[name in taken ? `spark:${name}` : name] = command;
  }
  return {
    scripts,
    findings,
    ...(lines.length > 0 && !isSettled ? { settings: { file, text: settingsText(lines, isTypeScript) } } : {}),
  };
}

function isSettingsFile(file: string): boolean {
  return /^vine-spark\.config\./.test(file);
}

interface Notes {
  findings: string[];
  lines: string[];
}

function pages(files: readonly string[], textOf: (file: string) => string, { findings, lines }: Notes): void {
  const page =
    pagePlaces.find((place) => files.includes(place)) ??
    files.find((file) => file.endsWith('.html') && !/test|example|fixture/.test(file));
  const entry = entryPlaces.find((place) => files.includes(place));
  const mount =
    entry &&
    /getElementById\(\s*['"]([\w-]+)['"]|querySelector\(\s*['"]#([\w-]+)['"]|\.mount\(\s*['"]#([\w-]+)['"]/.exec(textOf(entry));
  const id = mount ? (mount[1] ?? mount[2] ?? mount[3]) : undefined;
  const generated = `pages: { '/': { script: '${entry}', title: 'Application'${id ? `, mount: '${id}'` : ''} } },`;
  if (page === undefined) {
    if (entry === undefined) findings.push('there is neither a page nor a first script; name one in the settings: pages');
    else {
      findings.push(`there is no page: one is made for ${entry}${id ? `, which mounts to #${id}` : ''}`);
      lines.push(generated);
    }
    return;
  }
  const html = textOf(page);
  const hasModule = /<script\b[^>]*type=["']module["']/.test(html);
  if (hasModule || entry === undefined) {
    findings.push(`${page} is the page`);
    if (page !== 'index.html') lines.push(`pages: { '/': '${page}' },`);
    return;
  }
  findings.push(`${page} starts no module, so somebody put the script of ${entry} in: a page is made for that`);
  lines.push(generated);
}

/** Backends of the project's own: on which port they listen, which paths they answer, and how they are started. */
function servers(
  root: string,
  files: readonly string[],
  textOf: (file: string) => string,
  { description, findings, lines }: Notes & { description: Description },
): void {
  const rules: string[] = [];
  const runs: string[] = [];
  const called = pathsCalled(root, files, textOf);
  const answered = new Set<string>();
  for (const file of files.filter((one) => /\.[mc]?[jt]s$/.test(one) && !/\.(?:test|spec|config)\./.test(one))) {
    const text = textOf(file);
    const forwarded = [
      ...text.matchAll(/['"`](\/[\w/-]+)\*?['"`][^\n]{0,120}?['"`](https?:\/\/(?:localhost|127\.0\.0\.1|\[::1\]):\d+)/g),
    ];
    if (/\btarget\b|\bproxy/i.test(text))
      for (const [, path, to] of forwarded) {
        rules.push(`{ paths: ['${path!.replace(/\/$/, '')}'], to: '${to}' },`);
        answered.add(firstOf(path!));
        findings.push(`${file} leads ${path} to ${to}: the dev server does that itself`);
      }
    const port = /\.listen\(\s*(?:\{[^}]*port:\s*)?(?:Number\()?(?:process\.env\.\w+\s*(?:\|\||\?\?)\s*)?['"]?(\d{2,5})/.exec(
      text,
    )?.[1];
    if (port === undefined) continue;
    const paths = [...text.matchAll(/\b\w+\.(?:get|post|put|patch|delete|use|all|route)\(\s*['"`](\/[\w-]+)/g)].map(
      ([, path]) => path!,
    );
    const compared = [...text.matchAll(/(?:startsWith\(|===\s*)['"`](\/[\w-]+)/g)].map(([, path]) => path!);
    const named = [...new Set([...paths, ...compared])].filter((path) => !/^\/(?:assets|static|public|favicon)/.test(path));
    // One that answers whatever it's asked is there for what the sources call.
    const own = named.length > 0 ? named : [...called.keys()];
    if (own.length === 0) continue;
    for (const path of own) answered.add(firstOf(path));
    const to = `http://127.0.0.1:${port}`;
    rules.push(`{ paths: [${own.map((path) => `'${path}'`).join(', ')}], to: '${to}' },`);
    const does = named.length > 0 ? 'answers' : 'may be what answers';
    findings.push(`${file} listens on ${port} and ${does} ${own.join(', ')}`);
    const script = Object.entries(description.scripts ?? {}).find(
      ([, command]) => command.includes(file) || command.includes(file.replace(/\.\w+$/, '')),
    );
    const command = script ? script[1] : `node ${file}`;
    if (!/[&|;]/.test(command))
      runs.push(
        `{ name: '${script?.[0] ?? 'backend'}', command: '${command}', ready: '${to}', restartOn: ['${file.includes('/') ? `${file.split('/')[0]}/**` : file}'] },`,
      );
  }
  // What settings that are there say of it isn't read.
  const isSettled = files.some(isSettingsFile);
  for (const [path, file] of called)
    if (!answered.has(path) && !isSettled)
      findings.push(`${file} calls ${path}, which nothing here answers: say in the settings where that goes (forward)`);
  if (rules.length > 0) lines.push(`forward: [\n    ${[...new Set(rules)].join('\n    ')}\n  ],`);
  if (runs.length > 0) lines.push(`run: [\n    ${runs.join('\n    ')}\n  ],`);
}

/** The first parts of paths that sources call on their own origin, each with a file that does. */
function pathsCalled(root: string, files: readonly string[], textOf: (file: string) => string): Map<string, string> {
  const called = new Map<string, string>();
  const calls =
    /(?:\bfetch|\bEventSource|\bWebSocket|\baxios|\b(?:axios|api|http|client|request)\.(?:get|post|put|patch|delete|request))\(\s*['"`](\/[\w-]+)\//gi;
  // What lies in the project, or in a folder of files that are served as they are, the front end answers.
  const isOwn = (path: string) => ['', 'public', 'static', 'src'].some((folder) => existsSync(join(root, folder, path)));
  for (const file of files.filter((one) => /^src\/.*\.(?:[mc]?[jt]sx?|vue|svelte)$/.test(one) && !/\.(?:test|spec)\./.test(one)))
    for (const [, path] of textOf(file).matchAll(calls)) if (!called.has(path!) && !isOwn(path!)) called.set(path!, file);
  return called;
}

function firstOf(path: string): string {
  return /^\/[^/]*/.exec(path)![0];
}

function environment(files: readonly string[], textOf: (file: string) => string, { findings, lines }: Notes): void {
  const ours = new Set<string>();
  const constants = new Set<string>();
  for (const file of files.filter((one) => /^src\/.*\.(?:[jt]sx?|vue|svelte)$/.test(one))) {
    for (const [, name] of textOf(file).matchAll(/\bprocess\.env\.([A-Z_][A-Z0-9_]*)/g)) if (name !== 'NODE_ENV') ours.add(name!);
    for (const [whole] of textOf(file).matchAll(/\bimport\.meta\.(?!url\b|resolve\b|base\b|live\b)\w+\.[A-Z_][A-Z0-9_]*/g))
      constants.add(whole);
  }
  if (ours.size > 0) {
    findings.push(`sources read ${[...ours].join(', ')} of the environment`);
    lines.push(`expose: [${[...ours].map((name) => `'${name}'`).join(', ')}],`);
  }
  if (constants.size > 0) {
    findings.push(`sources read ${[...constants].join(', ')}, which is no part of the web: constants stand for it`);
    const rows = [...constants].map((whole) => {
      const name = whole.split('.').at(-1)!;
      return `'${whole}': process.env.${name} ?? '',`;
    });
    lines.push(`constants: {\n    ${rows.join('\n    ')}\n  },`);
  }
}

function settingsText(lines: readonly string[], isTypeScript: boolean): string {
  const body = `{\n  ${lines.join('\n  ')}\n}`;
  return isTypeScript
    ? `import type { Settings } from 'vine-spark';\n\nexport default ${body} satisfies Settings;\n`
    : `/** @type {import('vine-spark').Settings} */\nexport default ${body};\n`;
}

function filesIn(folder: string, depth = 0): string[] {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    if (entry.isDirectory())
      return skipped.test(entry.name) || depth > 8 || (depth > 0 && existsSync(join(path, 'package.json')))
        ? []
        : filesIn(path, depth + 1);
    return entry.isFile() && /\.(?:html|[mc]?[jt]sx?|vue|svelte|json)$|^\.(?:postcssrc|browserslistrc)/.test(entry.name)
      ? [path]
      : [];
  });
}

function readJson(file: string): Description | undefined {
  try {
    return parseJson(readFileSync(file, 'utf8')) as Description;
  } catch {
    return undefined;
  }
}
