import { statSync } from 'node:fs';
import { basename, dirname, extname, posix } from 'node:path';
import { fileOfId } from '../core/module-id.js';
import { contentHash } from '../core/text/content-hash.js';
import { parseJson } from '../core/text/json.js';
import type { ProjectGraph } from '../project/project-graph.js';
import { assetFolder, type BuiltFiles } from './built-files.js';
import type { OtherFiles } from './other-files.js';

export interface AssetOptions {
  base: string;
  /** Images and fonts up to this size, in bytes, become part of what uses them. */
  inlineBytes: number;
  others: OtherFiles;
}

const inlined: Record<string, string> = {
  '.svg': 'image/svg+xml',
  '.png': 'image/png',
  '.jpg': 'image/jpeg',
  '.jpeg': 'image/jpeg',
  '.gif': 'image/gif',
  '.webp': 'image/webp',
  '.avif': 'image/avif',
  '.ico': 'image/x-icon',
  '.woff2': 'font/woff2',
  '.woff': 'font/woff',
};

/** Files that are used by their URLs, written under names with their hashes. */
export class Assets {
  /** Source -> path in the output folder. */
  readonly paths: Record<string, string> = {};
  readonly #project: ProjectGraph;
  readonly #files: BuiltFiles;
  readonly #options: AssetOptions;

  constructor(project: ProjectGraph, files: BuiltFiles, options: AssetOptions) {
    this.#project = project;
    this.#files = files;
    this.#options = options;
  }

  /** The URL by which modules and sheets use a file, which isn't written yet. */
  url(id: string, hash: string): string {
    return this.#inlined(id) ?? `${this.#options.base}${assetPath(id, hash)}`;
  }

  /** The same, and the file is written if it isn't part of the URL. */
  write(id: string, hash: string): string {
    const url = this.#inlined(id);
    if (url !== undefined) return url;
    const path = assetPath(id, hash);
    this.paths[fileOfId(id)] ??= path;
    if (!this.#files.all.has(path)) this.#files.all.set(path, this.#read(id));
    return `${this.#options.base}${path}`;
  }

  /** Writes a file that a page names. Returns its path. */
  ofPage(id: string): string {
    const known = this.paths[id];
    if (known !== undefined) return known;
    const content = this.#contentFor(id);
    const path = assetPath(id, contentHash(content));
    this.#files.all.set(path, content);
    this.paths[id] = path;
    return path;
  }

  /** An application manifest names its icons from where it stands, which is another place in the output. */
  #contentFor(id: string): string | Buffer {
    const content = this.#read(id);
    if (!/\.webmanifest$|(?:^|\/)manifest\.json$/.test(id)) return content;
    try {
      return `${JSON.stringify(this.#moved(parseJson(content.toString()), dirname(id)), null, 2)}\n`;
    } catch {
      return content; // browsers say what is wrong with it
    }
  }

  /** The members of a manifest that are URLs (Web Application Manifest, 1.5 to 1.17), as they have to be from anywhere. */
  #moved(value: unknown, folder: string, name = ''): unknown {
    if (Array.isArray(value)) return value.map((item) => this.#moved(item, folder, name));
    if (typeof value === 'object' && value !== null)
      return Object.fromEntries(Object.entries(value).map(([key, member]) => [key, this.#moved(member, folder, key)]));
    if (typeof value !== 'string') return value;
    if (name === 'src') return this.#movedFile(value, folder);
    const isUrl = name === 'start_url' || name === 'scope' || name === 'url' || name === 'action';
    return isUrl && !isAbsolute(value) ? `${this.#options.base}${below(folder, value)}` : value;
  }

  #movedFile(url: string, folder: string): string {
    const { base } = this.#options;
    if (/^(?:[a-z][a-z0-9+.-]*:|\/\/)/i.test(url)) return url;
    const id = url.startsWith('/') ? url.slice(1) : below(folder, url);
    this.#options.others.noteKind(this.#project.paths.fileOf(id));
    const isOurs = this.#project.gate.ofProject(this.#project.paths.fileOf(id)) !== undefined;
    if (isOurs) return `${base}${this.ofPage(id)}`;
    return url.startsWith('/') && !url.startsWith(base) ? `${base}${id}` : `${base}${id}`;
  }

  #read(id: string): Buffer {
    return this.#options.others.read(this.#fileOf(id));
  }

  #fileOf(id: string): string {
    return this.#project.paths.fileOf(fileOfId(id));
  }

  #inlined(id: string): string | undefined {
    const type = inlined[extname(fileOfId(id)).toLowerCase()];
    const { inlineBytes } = this.#options;
    if (type === undefined || inlineBytes === 0 || statSync(this.#fileOf(id)).size > inlineBytes) return undefined;
    return `data:${type};base64,${this.#read(id).toString('base64')}`;
  }
}

function isAbsolute(url: string): boolean {
  return /^(?:[a-z][a-z0-9+.-]*:|\/)/i.test(url);
}

/** A URL from a folder as a path from the project. */
function below(folder: string, url: string): string {
  const path = posix.join(folder === '.' ? '' : folder, url);
  return path === '.' || path === './' ? '' : path;
}

/** A file's name without its folder and its extension, and without what means something else in URLs. */
export function nameOf(id: string): string {
  return inUrl(basename(fileOfId(id), extname(fileOfId(id)))) || 'file';
}

function inUrl(text: string): string {
  return text.replace(/[^\p{L}\p{N}._-]+/gu, '-');
}

/** Modules are `.js`: hosts that don't know `.mjs` send them as something that browsers don't run. */
function assetPath(id: string, version: string): string {
  const extension = inUrl(extname(fileOfId(id)));
  return `${assetFolder}/${nameOf(id)}-${version.slice(0, 10)}${extension === '.mjs' ? '.js' : extension}`;
}
