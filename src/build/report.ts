import { gzipSync } from 'node:zlib';
import { packageOf } from '../core/module-id.js';
import type { ProjectGraph } from '../project/project-graph.js';
import { loadsOf } from './loads.js';
import type { Manifest } from './manifest.js';
import type { Program } from './program.js';

/** A module in a file of a build. */
export interface ReportModule {
  id: string;
  /** Bytes of it in the file, and of those compressed by themselves with gzip. */
  bytes: number;
  gzip: number;
  /** Bytes of its source. */
  source: number;
  package: string;
  /** The way from a page to it. */
  chain: string[];
  /** Exports that are not in the build. */
  removed: string[];
  /** Why it has its scope for itself; absent where it shares one. */
  apart?: string;
}

/** What `--report` shows. */
export interface ReportData {
  project: string;
  files: { path: string; bytes: number; gzip: number; pages: string[]; modules: ReportModule[] }[];
  /** Modules of which nothing is in the build, with the bytes of their sources. */
  gone: { id: string; source: number }[];
}

export interface ReportInput {
  name: string;
  project: ProjectGraph;
  program: Program;
  manifest: Manifest;
  /** Texts of modules by file, as they are in it. */
  texts: ReadonlyMap<string, ReadonlyMap<string, string>>;
}

/** Collects what a report shows. */
export function reportData({ name, project, program, manifest, texts }: ReportInput): ReportData {
  const pagesOf = (path: string) =>
    Object.entries(loadsOf(manifest)).flatMap(([page, { scripts, later }]) =>
      [...scripts, ...later].includes(manifest.base + path) ? [page] : [],
    );
  const files = [...texts].map(([path, modules]) => ({
    path,
    bytes: manifest.files[path]?.bytes ?? 0,
    gzip: manifest.files[path]?.gzip ?? 0,
    pages: pagesOf(path),
    modules: [...modules].map(
      ([id, text]): ReportModule => moduleOf(id, text, { project, program, page: firstPage(id, project) }),
    ),
  }));
  const gone = [...project.modules.ids()].flatMap((id) => {
    const isLeft = files.some(({ modules }) => modules.some((module) => module.id === id && module.bytes > 0));
    const content = project.modules.content(id);
    return isLeft || content?.kind !== 'script' || content.isData ? [] : [{ id, source: sourceBytes(id, project) }];
  });
  return { project: name, files, gone: gone.sort((a, b) => b.source - a.source) };
}

function moduleOf(
  id: string,
  text: string,
  { project, program, page }: { project: ProjectGraph; program: Program; page: string[] },
): ReportModule {
  const apart = whyApart(id, project, program);
  return {
    id,
    bytes: Buffer.byteLength(text),
    gzip: text === '' ? 0 : gzipSync(text).length,
    source: sourceBytes(id, project),
    package: packageOf(id) ?? '',
    chain: [...page, ...project.modules.chainTo(id)],
    removed: removedFrom(id, program),
    ...(apart === undefined ? {} : { apart }),
  };
}

/** The page from which a module is reached first. */
function firstPage(id: string, { modules, pages }: ProjectGraph): string[] {
  const [root] = modules.chainTo(id);
  const page = pages.all().find((known) => pages.modules([known]).includes(root!));
  return page ? [page.id] : [];
}

function sourceBytes(id: string, project: ProjectGraph): number {
  const content = project.modules.content(id);
  return content?.kind === 'script'
    ? Buffer.byteLength(content.source.text)
    : content?.kind === 'style'
      ? Buffer.byteLength(content.css)
      : 0;
}

function whyApart(id: string, project: ProjectGraph, { bundle, members }: Program): string | undefined {
  const content = project.modules.content(id);
  if (content?.kind === 'script' && content.linked.format === 'commonjs')
    return 'it is CommonJS, which runs when it is asked for';
  return members.has(id) ? bundle.apart(id) : undefined;
}

function removedFrom(id: string, { bundle, members }: Program): string[] {
  const member = members.get(id);
  if (!member || member.apart !== undefined) return [];
  return [...member.exported].flatMap(([exported, local]) => {
    const { units } = bundle.names.own(member, local);
    return units.some((unit) => bundle.shaken.units.has(unit)) ? [] : [exported];
  });
}
