import { readFileSync, writeFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { Command } from 'commander';
import { circlesOf, dependentsOf, reachedFrom, shortestChains } from '../../core/graph/questions.js';
import { packageOf } from '../../core/module-id.js';
import { nearMiss } from '../../core/problem/near-miss.js';
import { type Problem, VineError } from '../../core/problem/problem.js';
import { parseJson } from '../../core/text/json.js';
import { shownJson, shownText } from '../../core/text/shown-text.js';
import { noTrace } from '../../core/trace.js';
import type { ReadGraph } from '../../graph/read-graph.js';
import { effectiveSettings } from '../../settings/effective.js';
import { projectOptions } from '../compose.js';
import { examples } from '../examples.js';
import { projectName } from '../project-name.js';
import { quietListener } from '../quiet-listener.js';
import { colours as pc } from '../report/colours.js';

interface GraphOptions {
  why?: string;
  of?: string;
  cycles?: boolean;
  twice?: boolean;
  unused?: boolean;
  built?: boolean;
  json?: boolean;
  dot?: boolean;
  html?: string;
  settings?: string;
}

/** `vine-spark graph [page]`. */
export function graphCommand(): Command {
  return new Command('graph')
    .description('the module graph: as a tree, as data, as a picture, and answers about it')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .option('--why <module>', 'all shortest chains from the pages to a module or a package, with the lines of the imports')
    .option('--of <module>', 'who needs a module: directly, and in all')
    .option('--cycles', 'circles of imports, each with the import to cut')
    .option('--twice', 'packages that are there in several versions')
    .option('--unused', 'source files that no page reaches')
    .option('--built', 'of what a build leaves, with sizes as they are in its scripts')
    .option('--json', 'print it as JSON')
    .option('--dot', 'print it for Graphviz')
    .option('--html <file>', 'write it as a picture, one HTML file')
    .option('--settings <file>', 'settings file')
    .addHelpText(
      'after',
      examples(
        ['graph', 'the tree of modules with their sizes'],
        ['graph --why react-dom', 'how a package got in'],
        ['graph --of src/model/tide.ts', 'what a change of it concerns'],
        ['graph --html graph.html', 'a picture to look at in a browser'],
      ),
    )
    .action(async (page: string | undefined, options: GraphOptions) => {
      const graph = await graphOf(page, options);
      const say: Say = (value, rows) => {
        process.stdout.write(options.json ? `${shownJson(value)}\n` : `${rows().join('\n')}\n`);
      };
      if (options.why !== undefined) return sayWhy(graph.graph, options.why, say);
      if (options.of !== undefined) return sayOf(graph.graph, options.of, say);
      if (options.cycles) return sayCycles(graph.graph, say);
      if (options.twice) return sayTwice(graph.graph, say);
      if (options.unused) {
        const { unusedFiles } = await import('../../graph/read-graph.js');
        const files = unusedFiles(graph.graph, new Set(graph.except));
        const bytes = (id: string) => Buffer.byteLength(readFileSync(join(graph.graph.root, id)));
        return say({ unused: files.map((id) => ({ id, bytes: bytes(id) })) }, () =>
          files.length === 0
            ? [pc.green('every source file is reached from a page')]
            : files.map((id) => `  ${shownText(id)}  ${pc.dim(size(bytes(id)))}`),
        );
      }
      const { graphDot, graphHtml, shownOf } = await import('../../graph/picture.js');
      if (options.html !== undefined) {
        const file = resolve(options.html);
        writeFileSync(file, graphHtml(projectName(graph.graph.root), shownOf(graph.graph)));
        process.stdout.write(`  ${pc.bold(shownText(options.html))}  ${pc.dim('the graph, for a browser')}\n`);
      } else if (options.dot) process.stdout.write(graphDot(shownOf(graph.graph)));
      else say(asData(graph.graph), () => tree(graph.graph, options.built ? 'in the build' : 'of source'));
    });
}

type Say = (value: unknown, rows: () => string[]) => void;

async function graphOf(
  page: string | undefined,
  { settings: file, built }: GraphOptions,
): Promise<{ graph: ReadGraph; except: string[] }> {
  const { ProjectGraph } = await import('../../project/project-graph.js');
  const { readGraph } = await import('../../graph/read-graph.js');
  const line = { ...(page === undefined ? {} : { page }), ...(file === undefined ? {} : { settings: file }) };
  const settings = await effectiveSettings(process.cwd(), line, built ? 'production' : 'development');
  if (built) {
    const { builtModules } = await import('../../build/build.js');
    const { optionsFor } = await import('./build.js');
    const quiet = { stage() {}, warn() {}, note() {} };
    const found = await builtModules(await optionsFor(settings, { cache: false, minify: true }, quiet)).catch(
      (error: Error & { problems?: Problem[] }) => {
        const [problem, ...others] = error.problems ?? [];
        throw problem ? new VineError(problem, undefined, others) : error;
      },
    );
    return { graph: readGraph(found.project, found), except: [settings.output.folder, ...found.project.options.verbatim] };
  }
  const project = new ProjectGraph(projectOptions(settings, { cacheFolder: undefined, trace: noTrace }), quietListener);
  project.readPages();
  await project.readModules();
  await project.readLate();
  const graph = readGraph(project);
  sayWhatLacks(project.problems);
  await project.close();
  return { graph, except: [settings.output.folder, ...project.options.verbatim] };
}

/** What only files lead to that can't be read isn't in the answers. */
function sayWhatLacks(problems: readonly Problem[]): void {
  if (problems.length === 0) return;
  const files = [...new Set(problems.flatMap(({ file }) => file ?? []))].map(shownText);
  const some = `${files.slice(0, 3).join(', ')}${files.length > 3 ? ` and ${files.length - 3} more` : ''}`;
  process.stderr.write(
    `${pc.yellow('!')} ${some} can not be read, so what only that leads to lacks here; vine-spark check says why.\n`,
  );
}

async function modulesNamed(graph: ReadGraph, name: string): Promise<string[]> {
  const { named } = await import('../../graph/read-graph.js');
  const found = named(graph, name);
  if (found.length > 0) return found;
  const guess = nearMiss(name, [...graph.edges.keys()]);
  throw new VineError({
    code: 'file-missing',
    message: `No page reaches a module or package '${name}'.`,
    hint: guess
      ? `Did you mean '${guess}'?`
      : 'Give its path from the project, the end of that, or the name of a package. --unused lists files that no page reaches.',
  });
}

async function sayWhy(graph: ReadGraph, name: string, say: Say): Promise<void> {
  const wanted = await modulesNamed(graph, name);
  const chains = shortestChains(graph, new Set(wanted)).map((chain) =>
    chain.map((id, at) => {
      const edge = at === 0 ? undefined : graph.edges.get(chain[at - 1]!)?.find(({ target }) => target === id);
      const line = edge && graph.lineOf(chain[at - 1]!, edge.specifier);
      return { id, ...(edge ? { kind: edge.kind, specifier: edge.specifier } : {}), ...(line === undefined ? {} : { line }) };
    }),
  );
  say({ module: name, chains }, () => [
    `${pc.bold(shownText(name))}  ${pc.dim(`${chains.length} shortest chain${chains.length === 1 ? '' : 's'}`)}`,
    ...chains.flatMap((chain) => [
      '',
      ...chain.map(({ id, kind, specifier, line }, at) => {
        const from = chain[at - 1];
        const why =
          from === undefined
            ? ''
            : pc.dim(
                `  by ${from.id}${line === undefined ? '' : `:${line}`}${kind === 'import' ? '' : `, ${kind}`} '${shownText(specifier ?? '')}'`,
              );
        return `${'  '.repeat(at + 1)}${shownText(id)}${why}`;
      }),
    ]),
  ]);
}

async function sayOf(graph: ReadGraph, name: string, say: Say): Promise<void> {
  const ids = await modulesNamed(graph, name);
  const answers = ids.slice(0, 5).map((id) => ({ id, ...dependentsOf(graph, id) }));
  say({ modules: answers }, () =>
    answers.flatMap(({ id, direct, all }) => [
      `${pc.bold(shownText(id))}  ${pc.dim(`${direct.length} need it directly, ${all.length} in all`)}`,
      ...direct.map((one) => `  ${shownText(one)}`),
      ...all.filter((one) => !direct.includes(one)).map((one) => pc.dim(`    ${shownText(one)}`)),
    ]),
  );
}

function sayCycles(graph: ReadGraph, say: Say): void {
  const circles = circlesOf(graph).map(({ cut, ...rest }) => {
    const specifier = graph.edges.get(cut.from)?.find(({ target }) => target === cut.to)?.specifier ?? '';
    const line = graph.lineOf(cut.from, specifier);
    return { ...rest, cut: { ...cut, specifier, ...(line === undefined ? {} : { line }) } };
  });
  process.exitCode = circles.length === 0 ? 0 : 1;
  say({ circles }, () =>
    circles.length === 0
      ? [pc.green('no circles')]
      : circles.flatMap(({ members, way, cut, left }) => [
          `${pc.bold(`${members.length} modules in a circle`)}  ${pc.dim(left === 0 ? 'one cut opens it' : `${left} stay in circles after the best cut`)}`,
          `  ${way.map(shownText).join(' → ')}`,
          `  ${pc.yellow('cut')} ${shownText(cut.from)}${'line' in cut ? `:${cut.line}` : ''}, which imports '${shownText(cut.specifier)}'`,
          '',
        ]),
  );
}

async function sayTwice(graph: ReadGraph, say: Say): Promise<void> {
  const { packagesTwice } = await import('../../graph/read-graph.js');
  const version = (folder: string) => {
    try {
      return (parseJson(readFileSync(join(graph.root, folder, 'package.json'), 'utf8')) as { version?: string }).version ?? '?';
    } catch {
      return '?';
    }
  };
  const found = packagesTwice(graph, version);
  process.exitCode = found.length === 0 ? 0 : 1;
  say({ twice: found }, () =>
    found.length === 0
      ? [pc.green('every package is there once')]
      : found.flatMap(({ name, copies }) => [
          pc.bold(shownText(name)),
          ...copies.map(
            ({ version: one, folder, bytes, by }) =>
              `  ${shownText(one.padEnd(12))}${size(bytes).padStart(9)}  ${shownText(folder)}  ${pc.dim(`for ${shownText(by.slice(0, 3).join(', '))}`)}`,
          ),
        ]),
  );
}

function asData(graph: ReadGraph) {
  const reached = reachedFrom(graph);
  return {
    pages: graph.roots,
    modules: [...reached].map((id) => ({
      id,
      bytes: graph.sizes.get(id) ?? 0,
      ...(packageOf(id) === undefined ? {} : { package: packageOf(id) }),
      imports: (graph.edges.get(id) ?? []).map(({ target, kind, specifier }) => {
        const line = graph.lineOf(id, specifier);
        return { id: target, kind, specifier, ...(line === undefined ? {} : { line }) };
      }),
    })),
  };
}

/** Pages with what they lead to. A module that stood above is named without what is below it; packages are one row each. */
function tree(graph: ReadGraph, what: string): string[] {
  const rows: string[] = [];
  const seen = new Set<string>();
  const packageBytes = new Map<string, number>();
  for (const id of reachedFrom(graph)) {
    const name = packageOf(id);
    if (name !== undefined) packageBytes.set(name, (packageBytes.get(name) ?? 0) + (graph.sizes.get(id) ?? 0));
  }
  const walk = (id: string, indent: string, how: string) => {
    const name = packageOf(id);
    const shown = name ?? id;
    const bytes = name === undefined ? (graph.sizes.get(id) ?? 0) : packageBytes.get(name)!;
    const isKnown = seen.has(shown);
    seen.add(shown);
    const text = name === undefined ? shownText(id) : pc.yellow(shownText(name));
    rows.push(
      `${indent}${text}${how === 'import' ? '' : pc.dim(` ${how}`)}${isKnown ? pc.dim('  above') : `  ${pc.dim(size(bytes))}`}`,
    );
    if (isKnown || name !== undefined) return;
    const below = new Map<string, string>();
    for (const { target, kind } of graph.edges.get(id) ?? [])
      if (!below.has(packageOf(target) ?? target)) below.set(packageOf(target) ?? target, `${kind}\0${target}`);
    for (const [, value] of below) {
      const [kind = 'import', target = ''] = value.split('\0');
      walk(target, `${indent}  `, kind);
    }
  };
  for (const root of graph.roots) walk(root, '', 'import');
  const total = [...reachedFrom(graph)].reduce((sum, id) => sum + (graph.sizes.get(id) ?? 0), 0);
  return [
    ...rows,
    '',
    pc.dim(`${seen.size === 1 ? '1 module or package' : `${seen.size} modules and packages`}, ${size(total)} ${what}`),
  ];
}

function size(bytes: number): string {
  return bytes < 1000
    ? `${bytes} B`
    : bytes < 1_000_000
      ? `${(bytes / 1000).toPrecision(3)} kB`
      : `${(bytes / 1_000_000).toPrecision(3)} MB`;
}
