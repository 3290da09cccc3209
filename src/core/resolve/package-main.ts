import { dirname, join } from 'node:path';
import type { PackageJson } from './package-json.js';
import { exportedTarget } from './package-targets.js';

/** How a specifier is used, which decides conditions and extensions. */
export type RequestUse = 'import' | 'require' | 'style' | 'page';

const isSheet = /\.(?:css|s[ac]ss)$/;

/** The file that stands for a package without `exports`. */
export function mainOf(description: PackageJson, use: RequestUse): string | undefined {
  if (use === 'style') {
    const { style, main } = description as { style?: unknown; main?: unknown };
    return [style, main].find((field): field is string => typeof field === 'string' && (field === style || isSheet.test(field)));
  }
  const fields = [description.browser, use === 'require' ? undefined : description.module, description.main];
  return fields.find((field): field is string => typeof field === 'string' && field !== '');
}

/** What has to be known of files to read what a package passes on. */
export interface PackageReading {
  readText(path: string): string | undefined;
  /** The file that a path without its extension stands for. */
  fileAt(path: string): string | undefined;
}

/**
 * What `require` gets of a package without `exports` whose `main` is a file: what `import` gets, if the file says that it was made of an
 * ECMAScript module and so exports the same. Two instances of one package wouldn't know of each other.
 */
export function onceOnly(folder: string, { module, browser }: PackageJson, main: string, reading: PackageReading): string {
  if (typeof module !== 'string' || typeof browser === 'string' || !isMadeOfModule(main, folder, reading)) return main;
  return reading.fileAt(join(folder, module)) ?? main;
}

/**
 * What `require` gets of a package that lists its paths. What it offers those who know modules and `require` both is taken if that is
 * CommonJS made for this, or if what `require` alone would get was made of a module and exports the same.
 */
export function requiredTarget(
  { folder, exports }: PackageJson,
  key: string,
  conditions: ReadonlySet<string>,
  reading: PackageReading,
): string | null | undefined {
  const plain = exportedTarget(exports, key, conditions);
  if (typeof plain !== 'string') return plain;
  const shared = exportedTarget(exports, key, new Set([...conditions, 'module']));
  if (typeof shared !== 'string' || shared === plain) return plain;
  if (isMadeOfModule(join(folder, plain), folder, reading)) return shared;
  const text = reading.readText(join(folder, shared)) ?? '';
  return /\bexports\b/.test(text) && !/^[^\S\n]*(?:import|export)\b/m.test(text) ? shared : plain;
}

/** What sets the mark, and doesn't only look for it in others. */
const mark = /\bdefineProperty\(\s*[\w$]+\s*,\s*["']__esModule["']|\.__esModule\s*=(?!=)/;
/** Exports that are one value. */
const whole = /\bmodule\.exports\s*=(?!=)(?!\s*require\()/;

/** Whether a CommonJS file, or the one of its package that it passes on, has the mark of those that were ECMAScript modules. */
function isMadeOfModule(file: string, folder: string, reading: PackageReading, isPassedOn = true): boolean {
  if (!file.startsWith(`${folder}/`)) return false;
  const text = reading.readText(file) ?? '';
  if (mark.test(text) && !whole.test(text)) return true;
  const passed = isPassedOn ? /\bmodule\.exports\s*=\s*require\(\s*(['"])(\.[^'"]+)\1\s*\)/.exec(text) : null;
  const target = passed ? reading.fileAt(join(dirname(file), passed[2]!)) : undefined;
  return target !== undefined && isMadeOfModule(target, folder, reading, false);
}
