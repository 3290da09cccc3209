import { basename, dirname, isAbsolute, resolve } from 'node:path';
import { decode, encode, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import { inTime } from '../../core/in-time.js';
import type { RawMap } from '../../core/maps/raw-map.js';
import type { Mode } from '../../core/mode.js';
import type { Paths } from '../../core/paths.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { contentHash } from '../../core/text/content-hash.js';
import { lineStarts } from '../../core/text/line-index.js';
import type {
  Adapter,
  AdapterContext,
  AdapterFailure,
  AdapterMessage,
  AdapterPart,
  AdapterResult,
  ScriptLanguage,
} from '../../core/translate/adapter.js';
import { tooDeepProblem } from '../../core/translate/nesting.js';
import { hashOfFile } from '../files/module-files.js';
import type { KeptTexts } from './script-compiler.js';

/** A file as an adapter took it apart. */
export interface AdaptedFile {
  adapter: Adapter;
  result: AdapterResult;
  /** Absolute paths of other files that went into it. */
  dependencies: string[];
  /** Absolute paths of folders any of whose files may change it. */
  folders: string[];
}

export interface AdaptedFilesOptions {
  paths: Paths;
  root: string;
  mode: Mode;
  adapters: readonly Adapter[];
  /** Changes with whatever may make something else of the same. */
  fingerprint: string;
  /** Results of earlier runs; absent where nothing is kept. */
  cache(): KeptTexts | undefined;
  /** The text of a file (absolute path) that may be read. */
  readText(path: string): string | undefined;
  /** `isKnown`: nothing but the files named went into it, and nobody's plugins. */
  toCss(
    file: string,
    text: string,
    language: string,
  ): Promise<{ code: string; map?: RawMap; dependencies: string[]; folders: string[]; isKnown: boolean }>;
  toScript(file: string, text: string, language: ScriptLanguage): Promise<{ code: string; map?: RawMap }>;
  onWarning(id: string, warning: Problem): void;
}

/** Hashes of files that went into something, by path; `undefined` for one that isn't there. */
type Hashes = [path: string, hash: string | undefined][];

interface Known {
  hash: string;
  /** Settles with what it was made of, too. */
  made: Promise<AdaptedFile & { inputs: Hashes }>;
}

/** How long an adapter may take for one file. */
const adapterMs = 30_000;

/** Files as adapters take them apart: once for all their modules, and only when something that goes into them has changed. */
export class AdaptedFiles {
  readonly #options: AdaptedFilesOptions;
  readonly #known = new Map<string, Known>();
  /** Names of the parts of files, as they were last. */
  readonly #parts = new Map<string, string[]>();
  /** What went into files that could not be taken apart. */
  readonly #failedOn = new Map<string, readonly string[]>();
  /** Folders in which files were looked for, by the file that they went into. */
  readonly #folders = new Map<string, readonly string[]>();

  constructor(options: AdaptedFilesOptions) {
    this.#options = options;
  }

  /** The adapter for a file; `undefined` where there is none. */
  adapterFor(file: string): Adapter | undefined {
    return this.#options.adapters.find(({ files }) => file.search(files) !== -1);
  }

  /** Names of the parts that a file had when it was read last. */
  partsOf(file: string): Iterable<string> {
    return this.#parts.get(file) ?? [];
  }

  /** Absolute paths of files that went into one that could not be taken apart. */
  failedOn(file: string): readonly string[] {
    return this.#failedOn.get(file) ?? [];
  }

  /** Forgets what was made, e.g. since settings have changed that may go into it. */
  forget(): void {
    this.#known.clear();
  }

  /** Forgets what was made of files by looking at what has changed at a path (absolute). */
  forgetLooking(path: string): void {
    for (const [id, folders] of this.#folders)
      if (folders.some((folder) => path.startsWith(`${folder}/`))) this.#known.delete(id);
  }

  /**
   * Takes a file apart; `hash` stands for its source.
   *
   * @throws whatever the adapter throws.
   */
  async of(id: string, source: string, hash: string, adapter: Adapter): Promise<AdaptedFile> {
    const known = this.#known.get(id);
    if (known?.hash === hash) {
      const made = await known.made.catch(() => undefined);
      if (made && areSame(made.inputs)) return made;
    }
    // Somebody else may have begun in the meantime.
    const newest = this.#known.get(id);
    if (newest && newest !== known && newest.hash === hash) return newest.made;
    const made = this.#make(id, source, hash, adapter);
    made.then(
      ({ result, folders }) => {
        this.#parts.set(id, Object.keys(result.parts ?? {}));
        if (folders.length > 0) this.#folders.set(id, folders);
        else this.#folders.delete(id);
      },
      () => {},
    );
    this.#known.set(id, { hash, made });
    return made;
  }

  async #make(id: string, source: string, hash: string, adapter: Adapter): Promise<AdaptedFile & { inputs: Hashes }> {
    const cache = this.#options.cache();
    const version = typeof adapter.version === 'function' ? adapter.version() : adapter.version;
    const { fingerprint, mode } = this.#options;
    const key =
      version === undefined || !cache
        ? undefined
        : `${contentHash(fingerprint, mode, adapter.name, version)}${hash} adapted ${id}`;
    const kept = key && cache?.get(key);
    if (kept) {
      const { result, inputs } = JSON.parse(kept) as { result: AdapterResult; inputs: [string, string | null][] };
      const read: Hashes = inputs.map(([path, input]) => [path, input ?? undefined]);
      if (areSame(read)) {
        this.#warn(id, source, result);
        return { adapter, result, inputs: read, dependencies: read.map(([path]) => path), folders: [] };
      }
    }
    const used = new Used();
    let result: AdapterResult;
    try {
      const answer = adapter.translate(source, this.#context(id, used));
      result = checkedResult(await inTime(answer, adapterMs, 'it has not answered'), basename(id));
    } catch (error) {
      this.#failedOn.set(id, [...used.files.keys()]);
      throw error;
    }
    const inputs: Hashes = [...used.files];
    if (key && used.isKnown) cache?.put(key, () => JSON.stringify({ result, inputs }));
    this.#warn(id, source, result);
    return { adapter, result, inputs, dependencies: [...used.files.keys()], folders: [...used.folders] };
  }

  #context(id: string, used: Used): AdapterContext {
    const { paths, mode, root, toCss, toScript } = this.#options;
    const file = paths.fileOf(id);
    return {
      file,
      id,
      mode,
      root,
      dependOn: (path) => {
        used.add(isAbsolute(String(path)) ? String(path) : resolve(dirname(file), String(path)));
      },
      read: (path) => {
        used.add(path);
        return this.#options.readText(path);
      },
      toCss: async (text, language) => {
        const made = await toCss(file, text, language);
        for (const path of made.dependencies) used.add(path);
        for (const folder of made.folders) used.folders.add(folder);
        used.isKnown &&= made.isKnown;
        return made;
      },
      toScript: (text, language) => {
        // tsconfig.json decides about it too, which is no file of this one.
        used.isKnown = false;
        return toScript(file, text, language);
      },
      block: async (type, text, attributes) => {
        const taker = this.#options.adapters.find(({ blocks }) => blocks?.includes(type));
        return taker?.translateBlock?.(text, { type, file, attributes });
      },
    };
  }

  #warn(id: string, source: string, { warnings = [] }: AdapterResult): void {
    for (const warning of warnings)
      this.#options.onWarning(id, placed(id, source, warning, { code: 'component-doubtful', message: ended(warning.message) }));
  }
}

/** What an adapter used for a file. */
class Used {
  /** Hashes as they were when a file was named, before it was read: what changed since is another input. */
  readonly files = new Map<string, string | undefined>();
  /** Folders any of whose files may change it. */
  readonly folders = new Set<string>();
  /** The files are all that went into it, beside the adapter's own version. */
  isKnown = true;

  add(path: string): void {
    if (!this.files.has(path)) this.files.set(path, hashOfFile(path));
  }
}

/** The problems of a file that an adapter could not take apart. */
export function adapterProblems(id: string, source: string, adapter: Adapter, error: unknown): Problem[] {
  const failure = Object(error) as Partial<AdapterFailure>;
  const { problem } = failure;
  const all: AdapterMessage[] =
    Array.isArray(failure.errors) && failure.errors.length > 0
      ? failure.errors
      : [{ ...failure, message: error instanceof Error ? error.message : String(failure.message ?? error) }];
  // A compiler in JavaScript runs out of its stack without harm, and says it in the engine's words.
  if (all.some(({ message }) => /^Maximum call stack size exceeded/.test(String(message)))) return [tooDeepProblem(id)];
  return all.map((one) =>
    problem
      ? placed(id, source, one, { ...problem, message: ended(problem.message || one.message) })
      : placed(id, source, one, {
          code: 'adapter-failed',
          message: `The adapter '${adapter.name}' failed: ${one.message}`,
        }),
  );
}

function placed(
  id: string,
  source: string,
  { line, column, hint }: AdapterMessage,
  problem: Pick<Problem, 'code' | 'message' | 'hint'>,
): Problem {
  // Of what concerns the whole file no place is shown.
  if (line === undefined && problem.code !== 'adapter-failed')
    return { severity: 'error', file: id, ...problem, ...(hint === undefined ? {} : { hint }) };
  const start = (lineStarts(source)[positive(line) - 1] ?? 0) + positive(column) - 1;
  return problemAt({ file: id, text: source, start }, { ...problem, ...(hint === undefined ? {} : { hint }) });
}

function ended(message: string): string {
  return /[.!?]$/.test(message) ? message : `${message}.`;
}

function areSame(inputs: Hashes): boolean {
  return inputs.every(([path, hash]) => hashOfFile(path) === hash);
}

const languages = ['js', 'jsx', 'ts', 'tsx'];

/** Checks what an adapter gave. */
function checkedResult(result: unknown, name: string): AdapterResult {
  if (typeof result === 'string') return { code: result };
  const { code, map, language, parts, holdsNoState, warnings } = Object(result) as Partial<AdapterResult>;
  if (typeof code !== 'string') throw new Error('it must give the code of a module as a text, or an object with code and map.');
  if (language !== undefined && !languages.includes(language))
    throw new Error(`it gives code in the language '${language}', which is none of ${languages.join(', ')}.`);
  const checked: Record<string, AdapterPart> = {};
  for (const [key, part] of Object.entries(parts ?? {})) {
    if (!/^[\w-]+(?:\.[\w-]+)+$/.test(key))
      throw new Error(`it names a part '${key}', which must be letters, digits and dashes with an extension, like style.css.`);
    if (typeof part?.text !== 'string') throw new Error(`its part '${key}' has no text.`);
    checked[key] = { ...part, ...mapOf(part.map, basename(part.file ?? name)) };
  }
  return {
    code,
    ...mapOf(map, name),
    ...(language ? { language } : {}),
    ...(holdsNoState ? { holdsNoState } : {}),
    ...(Array.isArray(warnings) && warnings.length > 0 ? { warnings } : {}),
    ...(Object.keys(checked).length > 0 ? { parts: checked } : {}),
  };
}

/** A map as plain data: compilers give objects of their own. Of several sources only the file itself is kept, by its name. */
function mapOf(map: unknown, file: string): { map?: RawMap } {
  if (typeof (map as Partial<RawMap> | undefined)?.mappings !== 'string') return {};
  const { version, sources, sourcesContent, names, mappings } = map as RawMap;
  const all = { version, sources, names: names ?? [], mappings, ...(sourcesContent ? { sourcesContent } : {}) };
  if ((sources?.length ?? 0) <= 1) return { map: all };
  const own = Math.max(
    0,
    sources.findIndex((source) => basename(source ?? '') === file),
  );
  const lines = decode(mappings).map((line) =>
    line.flatMap((segment): SourceMapSegment[] => {
      if (segment.length === 1) return [segment];
      if (segment[1] !== own) return [[segment[0]]];
      return [
        segment.length === 4 ? [segment[0], 0, segment[2], segment[3]] : [segment[0], 0, segment[2], segment[3], segment[4]],
      ];
    }),
  );
  const content = sourcesContent ? { sourcesContent: [sourcesContent[own] ?? null] } : {};
  return { map: { version, sources: [sources[own]!], names: all.names, mappings: encode(lines), ...content } };
}

/** A line or column as an error may have it. */
function positive(value: unknown): number {
  return typeof value === 'number' && Number.isSafeInteger(value) && value > 0 ? value : 1;
}
