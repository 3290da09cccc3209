import { basename } from 'node:path';
import { evaluationOrder } from '../core/bundle/native-order.js';
import { modulesOnCycles } from '../core/graph/cycles.js';
import { fileOfId } from '../core/module-id.js';
import { type Problem, problemAt } from '../core/problem/problem.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { BuiltFiles } from './built-files.js';
import { kilobytes } from './limits.js';
import type { Program } from './program.js';

/** What need not be wrong with a build, but probably is not meant. */
export function warningsOf(project: ProjectGraph, program: Program, files: BuiltFiles): Problem[] {
  return [...readsTooEarly(project, program), ...packagesTwice(project, program), ...largeFiles(files)];
}

/** Names that a module in a circle of imports reads at once, though the exporter runs later, whichever way the circle is entered here. */
function readsTooEarly(project: ProjectGraph, { bundle, members }: Program): Problem[] {
  const { shaken, names } = bundle;
  const found = new Map<string, Problem>();
  const circles = modulesOnCycles(project.modules);
  if (circles.size === 0) return [];
  for (const root of shaken.roots) {
    const order = evaluationOrder(root, (id) => shaken.edges(id));
    const place = new Map(order.map((id, at) => [id, at]));
    for (const id of order) {
      if (!circles.has(id)) continue;
      const member = members.get(id);
      const content = project.modules.content(id);
      if (!member || member.apart !== undefined || content?.kind !== 'script') continue;
      for (const unit of member.units) {
        if (!shaken.units.has(unit)) continue;
        for (const { reference, found: target, text } of names.reads(member, unit)) {
          if (text !== undefined || !reference.isAtOnce || reference.isWrite || !member.imported.has(reference.name)) continue;
          if (!('own' in target) || target.own.member.named.get(target.own.name)?.kind === 'function') continue;
          const exporter = target.own.member.id;
          if ((place.get(exporter) ?? -1) <= place.get(id)! || exporter === id) continue;
          const start = Math.max(0, content.source.text.indexOf(reference.name));
          found.set(`${id} ${reference.name}`, {
            ...problemAt(
              { file: id, text: content.source.text, start, end: start + reference.name.length },
              {
                code: 'read-too-early',
                message: `'${reference.name}' is read before ${exporter}, which exports it, has run: the two import each other.`,
                hint: 'Read it in a function that is called later, or put what both need into a module of its own.',
              },
            ),
            severity: 'warning',
          });
        }
      }
    }
  }
  return [...found.values()];
}

/** As many places of one package are told. */
const longest = 6;

/** Packages that the build holds more than once, in different versions or not, with who brings each. */
function packagesTwice(project: ProjectGraph, { graph }: Program): Problem[] {
  const folders = new Map<string, Map<string, string>>();
  for (const id of graph.ids()) {
    const [folder, name] = /^.*node_modules\/((?:@[^/]+\/)?[^/]+)/.exec(fileOfId(id)) ?? [];
    if (folder === undefined || name === undefined) continue;
    const known = folders.get(name) ?? new Map();
    if (!known.has(folder)) known.set(folder, id);
    folders.set(name, known);
  }
  return [...folders].flatMap(([name, places]) => {
    if (places.size < 2) return [];
    const versions = [...places].map(([folder, id]) => {
      const { version } = project.resolver.packages.at(project.paths.fileOf(folder)) ?? {};
      const chain = project.modules.chainTo(id);
      const bringer = chain.findLast((at) => !fileOfId(at).startsWith(`${folder}/`));
      return { version: String(version), by: bringer === undefined ? folder : bringer };
    });
    const different = new Set(versions.map(({ version }) => version)).size;
    const isSame = different === 1;
    const list = versions.slice(0, longest).map(({ version, by }) => `${isSame ? '' : `${version} `}for ${by}`);
    if (versions.length > longest) list.push(`${versions.length - longest} more`);
    const times = different === versions.length ? '' : `${versions.length} times, `;
    const how = isSame ? `${versions.length} times` : `${times}in ${different} versions`;
    const message = `${name}${isSame ? ` ${versions[0]!.version}` : ''} is in the build ${how}: ${list.join(', ')}.`;
    const hint = isSame
      ? 'Let the package manager bring them to one place (npm dedupe), or name one with alias in the settings.'
      : 'Bring those who need it to one version, or name one with alias in the settings.';
    return [{ code: 'package-twice', severity: 'warning', message, hint } satisfies Problem];
  });
}

const largeBytes = 1_000_000;

function largeFiles({ all }: BuiltFiles): Problem[] {
  return [...all].flatMap(([path, content]) => {
    const bytes = Buffer.byteLength(content);
    if (bytes < largeBytes || !path.startsWith('assets/') || /\.(?:js|css|map|wasm|mp4|webm|mp3|ogg|pdf|zip)$/.test(path))
      return [];
    const message = `${basename(path)} has ${kilobytes(bytes)}, for which pages will wait.`;
    const hint = 'Make it smaller, for example as AVIF, WebP or WOFF2, or in less detail.';
    return [{ code: 'file-large', severity: 'warning', message, hint } satisfies Problem];
  });
}
