import { setFrontEndBase } from './runtime/base-path.js';
import { setPieceLoader } from './runtime/load-piece.js';
import { loadScript } from './runtime/load-script.js';
import { surface } from './runtime/records.js';
import { vine } from './runtime/runtime.js';
import { linkSheetsOnly } from './runtime/sheets.js';

/** What stands in front of a module's id where its worker's URL is meant. No URL of a file begins like that. */
const workerMark = 'worker:';

/** What the page, or the worker's own script, says of the build. */
interface BuiltSettings {
  base: string;
  /** The page's own security policy forbids style elements. */
  links?: boolean;
  /** Module behind an `import()` -> paths of the files that bring it, below the base. */
  late: Record<string, string[]>;
  /** Module that runs in a worker -> path of the worker's script. */
  workers?: Record<string, string>;
  /** What the content of files has to be, by path. */
  integrity?: Record<string, string>;
}

/** In a worker: the settings, which stand in front of this script. */
declare const sparkBuilt: BuiltSettings | undefined;

const settings =
  typeof document === 'undefined'
    ? sparkBuilt!
    : (JSON.parse((document.currentScript as HTMLScriptElement).dataset.sparkBuilt!) as BuiltSettings);
/** Files that have come or are on their way. One that fails may be asked for again. */
const files = new Map<string, Promise<void>>();
const loaded = new Set<string>();

function load(path: string): Promise<void> {
  const known = files.get(path);
  if (known) return known;
  const promise = loadScript(`${settings.base}${path}`, settings.integrity?.[path]);
  files.set(path, promise);
  promise.then(
    () => loaded.add(path),
    () => files.delete(path),
  );
  return promise;
}

/** What the page's hook offers beside the runtime. */
interface Hook {
  /** A page of a backend may start several entries, each with settings of its own. */
  more(others: BuiltSettings): void;
}
const there = (globalThis as { '~spark'?: Partial<Hook> })['~spark'];
if (there?.more) there.more(settings);
else begin();

function begin(): void {
  setFrontEndBase(settings.base);
  if (settings.links) linkSheetsOnly();
  const filesOf = (id: string) => settings.late[id] ?? [];
  setPieceLoader(
    async (id) => void (await Promise.all(filesOf(id).map(load))),
    // A module may have come with a file that others need too, and what it needs itself in another one.
    (id) => filesOf(id).every((path) => loaded.has(path)),
  );
  surface.isLive = false;
  surface.workerUrl = (name) => {
    const path = name.startsWith(workerMark) ? settings.workers?.[name.slice(workerMark.length)] : undefined;
    return path === undefined ? undefined : `${settings.base}${path}`;
  };
  const hook: Hook = {
    more({ late, workers, integrity }) {
      // What either of them doesn't have from the start: scripts of the other may still be on their way.
      for (const [id, paths] of Object.entries(late)) settings.late[id] = [...new Set([...filesOf(id), ...paths])];
      settings.workers = { ...settings.workers, ...workers };
      settings.integrity = { ...settings.integrity, ...integrity };
    },
  };
  Object.defineProperty(globalThis, '~spark', { value: Object.assign(vine, hook), configurable: true });
}
