import { dirname, relative, sep } from 'node:path';
import { deserialize, serialize } from 'node:v8';
import picomatch from 'picomatch';
import { Bundle } from '../core/bundle/bundle.js';
import type { Member } from '../core/bundle/member.js';
import { type MemberInput, readMember } from '../core/bundle/read-member.js';
import type { ShakeRoot } from '../core/bundle/shake.js';
import { modulesOnCycles } from '../core/graph/cycles.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import { ModuleGraph } from '../core/graph/module-graph.js';
import { jsonText } from '../core/link/link-data.js';
import { fileOfId } from '../core/module-id.js';
import { contentHash } from '../core/text/content-hash.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { BuildMemory } from './memory.js';

export interface ProgramInput {
  project: ProjectGraph;
  memory: BuildMemory;
  /** See `BundleInput`. */
  inSteps: boolean;
  isOld: boolean;
  /** The URL of a file that modules use by it. */
  assetUrl(id: string, hash: string): string;
}

/** A project's modules without what nobody needs. */
export interface Program {
  bundle: Bundle;
  members: ReadonlyMap<string, Member>;
  /** What is left, with edges that lead past what isn't. */
  graph: ModuleGraph<ModuleContent>;
}

/** A module taken apart, now or by an earlier build. */
function keptMember({ kept, fingerprint }: ProjectGraph, input: MemberInput): Member {
  if (!kept) return readMember(input);
  const { id, text, constants, isOnCycle } = input;
  const key = `member ${contentHash(fingerprint, id, text, JSON.stringify(constants), String(isOnCycle))}`;
  const known = kept.get(key);
  if (known !== undefined) return { ...(deserialize(Buffer.from(known, 'base64')) as Omit<Member, 'text'>), text };
  const member = readMember(input);
  kept.put(key, () => serialize({ ...member, text: '' }).toString('base64'));
  return member;
}

/** As many characters are much text, see `parseModule`. */
const much = 1e6;

/** Takes the modules of a project apart and leaves out what its pages don't need. */
export function shakeProject({ project, memory, inSteps, isOld, assetUrl }: ProgramInput): Program {
  const { modules, pages, options } = project;
  const onCycles = modulesOnCycles(modules);
  const members = new Map<string, Member>();
  const data = new Set<string>();
  const texts = new Map<string, string>();
  let length = 0;
  for (const id of modules.ids()) {
    const text = textOf(id, modules.content(id)!, assetUrl);
    if (text === undefined) continue;
    texts.set(id, text);
    length += text.length;
  }
  const isMuch = length > much;
  for (const [id, text] of texts) {
    const content = modules.content(id)!;
    if (content.kind !== 'script' || content.isData) data.add(id);
    const isOnCycle = onCycles.has(id);
    const constants = data.has(id) ? {} : options.constants;
    const read = () => keptMember(project, { id, text, constants, isOnCycle, isMuch });
    members.set(id, memory.member(content, `${isOnCycle} ${content.kind === 'asset' ? text : ''}`, read));
  }
  const targets = new Map<Member, readonly string[]>();
  const targetsOf = (member: Member) => {
    const known = targets.get(member) ?? importTargets(member, modules.content(member.id)!);
    targets.set(member, known);
    return known;
  };
  const roots: ShakeRoot[] = pages
    .all()
    .flatMap((page) => pages.modules([page]))
    .map((id) => ({ id, names: [] }));
  const inWorkers = modulesInWorkers(modules);
  const bundle = new Bundle({
    members,
    edges: (id) => modules.edges(id),
    has: (id) => modules.has(id),
    modules: () => modules.ids(),
    targets: targetsOf,
    mayMatter: packageSays(project),
    isOnCycle: (id) => onCycles.has(id),
    mayBeInWorker: (id) => inWorkers.has(id),
    circleOf: (id) => onCycles.get(id),
    isNodeDefault: ({ id }) => {
      const content = modules.content(id);
      return content?.kind === 'script' && content.edges.nodeDefault === true;
    },
    isData: (id) => data.has(id),
    isSheet: (id) => modules.content(id)?.kind === 'style',
    importedBy: (id) => importedNames(modules.content(id)),
    constants: options.constants,
    roots,
    inSteps,
    isOld,
  });
  const graph = new ModuleGraph<ModuleContent>();
  for (const id of modules.ids()) if (bundle.shaken.modules.has(id)) graph.set(id, modules.content(id)!, bundle.shaken.edges(id));
  return { bundle, members, graph };
}

/** A module as ECMAScript; `undefined` for CommonJS, and for what has nothing to run. */
function textOf(id: string, content: ModuleContent, assetUrl: ProgramInput['assetUrl']): string | undefined {
  if (content.kind === 'script') return content.text;
  if (content.kind === 'asset') return `export default ${JSON.stringify(assetUrl(id, content.hash))};\n`;
  return content.names && jsonText(JSON.stringify(content.names));
}

/** Modules that workers lead to, at once or later. */
function modulesInWorkers(modules: ModuleGraph<ModuleContent>): Set<string> {
  const found = new Set<string>();
  for (const id of modules.ids()) for (const { kind, target } of modules.edges(id)) if (kind === 'worker') found.add(target);
  for (const id of found) for (const { target } of modules.edges(id)) found.add(target);
  return found;
}

/** Where each import of a module leads. */
function importTargets(member: Member, content: ModuleContent): string[] {
  if (content.kind !== 'script') return [];
  const keyOf = ({ specifier, type = '' }: { specifier: string; type?: string | undefined }) => `${specifier}\0${type}`;
  const requests = content.linked.requests.filter(({ kind }) => kind === 'import');
  const targets = new Map(requests.map((request, at) => [keyOf(request), content.edges.imports[at]!]));
  return member.imports.map((imported) => targets.get(keyOf(imported))!);
}

/** The names that a module imports, by target; `null` for all. */
function importedNames(content: ModuleContent | undefined): Map<string, Set<string> | null> {
  const names = new Map<string, Set<string> | null>();
  if (content?.kind !== 'script') return names;
  const { linked, edges } = content;
  const targets = new Map<number, string>();
  let place = 0;
  linked.requests.forEach(({ kind }, request) => {
    if (kind === 'import') targets.set(request, edges.imports[place++]!);
  });
  for (const target of targets.values()) names.set(target, new Set());
  for (const { request, name } of linked.imports) names.get(targets.get(request)!)?.add(name);
  // A namespace object, and what is passed on as a whole, stands in no record by name.
  if (linked.stars.length > 0 || /\[\d+, null,/.test(linked.code.slice(0, linked.code.indexOf('\n'))))
    for (const target of targets.values()) names.set(target, null);
  return names;
}

/** Whether running a module may matter to others, by the `sideEffects` of its package. */
function packageSays(project: ProjectGraph): (id: string) => boolean {
  /** What packages say, by their folders; the same by the folders of modules, and for modules. */
  const ofPackages = new Map<string, (path: string) => boolean>();
  const ofFolders = new Map<string, (path: string) => boolean>();
  const ofModules = new Map<string, boolean>();
  const saidBy = (scope: { folder: string; sideEffects?: unknown; name?: unknown }): ((path: string) => boolean) => {
    const { folder, sideEffects, name } = scope;
    const above = dirname(folder);
    if (sideEffects === false) return () => false;
    if (Array.isArray(sideEffects)) return matching(folder, sideEffects);
    // One that only says how its folder is to be read belongs to the package above.
    const isPart = sideEffects === undefined && name === undefined && above !== folder && !above.endsWith(`${sep}node_modules`);
    return isPart ? ofFolder(above) : () => true;
  };
  const ofFolder = (folder: string): ((path: string) => boolean) => {
    const known = ofFolders.get(folder);
    if (known) return known;
    const scope = project.resolver.packages.scopeOf(folder);
    const says = scope ? (ofPackages.get(scope.folder) ?? saidBy(scope)) : () => true;
    if (scope) ofPackages.set(scope.folder, says);
    ofFolders.set(folder, says);
    return says;
  };
  const ofModule = (id: string): boolean => {
    if (project.modules.content(id)?.kind === 'style') return true;
    const file = project.paths.fileOf(fileOfId(id));
    return ofFolder(dirname(file))(file);
  };
  return (id) => {
    const says = ofModules.get(id) ?? ofModule(id);
    ofModules.set(id, says);
    return says;
  };
}

/** Whether a file is one of those that a package lists. */
function matching(folder: string, listed: readonly unknown[]): (path: string) => boolean {
  const patterns = listed.filter((pattern) => typeof pattern === 'string');
  // Where it would take long to tell, all of them are.
  if (!patterns.every(isQuick)) return () => true;
  const globs = patterns.map((pattern) => {
    const plain = pattern.replace(/^\.?\//, '');
    return plain.includes('/') ? plain : `**/${plain}`;
  });
  const isListed = picomatch(globs, { dot: true });
  return (path) => isListed(relative(folder, path).split(sep).join('/'));
}

/** Whether no name can keep the search for a pattern busy: packages may list any. */
function isQuick(pattern: string): boolean {
  const parts = pattern.split('/');
  const isPlain = (part: string) => part === '**' || (part.match(/[*?]/g)?.length ?? 0) <= 3;
  return (
    pattern.length < 300 &&
    !/[+*?!@]\(/.test(pattern) &&
    parts.every(isPlain) &&
    parts.filter((part) => part === '**').length <= 4
  );
}
