import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import type { Problem } from '../core/problem/problem.js';

/** A compiler of the user's own project. */
export interface FoundCompiler<T> {
  compiler: T;
  /** Of the framework's package. */
  version: string;
  /** Absolute path of the folder of the framework's package. */
  folder: string;
}

export interface CompilerNeed {
  /** The framework's package, e.g. `vue`. */
  framework: string;
  /** What of it is the compiler. */
  entry: string;
  /** Majors of the framework that are understood, e.g. `3`. */
  majors: readonly number[];
  /** What files of the kind are called, e.g. `Components of Vue`. */
  what: string;
}

/**
 * Loads the compiler of a framework as a file of the project finds it.
 *
 * @throws an error with a `problem` that says what to install, where there is none or another version is needed.
 */
export async function findCompiler<T>(file: string, { framework, entry, majors, what }: CompilerNeed): Promise<FoundCompiler<T>> {
  const require = createRequire(file);
  const [least] = majors;
  const needed = `${framework}@${majors.at(-1)}`;
  let description: string;
  try {
    description = require.resolve(`${framework}/package.json`);
  } catch (error) {
    throw failure(error, {
      code: 'compiler-missing',
      message: `${what} need the package '${framework}', which brings their compiler, and it is not installed.`,
      hint: `Install it: npm install ${needed}.`,
    });
  }
  const { version } = require(description) as { version: string };
  if (!majors.includes(Number.parseInt(version, 10)))
    throw failure(undefined, {
      code: 'version-unfit',
      message: `${what} need ${framework} ${majors.join(' or ')}, and ${version} is installed (${dirname(description)}).`,
      hint: `Install a version that fits: npm install ${needed}.`,
    });
  try {
    const path = require.resolve(entry);
    const compiler = (await loaded(require, path)) as T;
    return { compiler, version, folder: dirname(description) };
  } catch (error) {
    throw failure(error, {
      code: 'compiler-missing',
      message: `The compiler of ${framework} ${version} cannot be loaded: ${error instanceof Error ? error.message.split('\n')[0]! : String(error)}`,
      hint: `Its installation may be unfinished. Install it anew: npm install ${framework}@${least}.`,
    });
  }
}

async function loaded(require: NodeJS.Require, path: string): Promise<unknown> {
  try {
    return require(path);
  } catch (error) {
    if ((error as { code?: unknown }).code !== 'ERR_REQUIRE_ESM') throw error;
    return import(path);
  }
}

function failure(cause: unknown, problem: Pick<Problem, 'code' | 'message' | 'hint'>): Error {
  return Object.assign(new Error(problem.message, { cause }), { problem });
}

/** The version of an installed package as a file finds it; `none` where there is none. */
export function installedVersion(root: string, name: string): string {
  try {
    const require = createRequire(join(root, 'package.json'));
    return (require(`${name}/package.json`) as { version: string }).version;
  } catch {
    return 'none';
  }
}
