import { createRequire } from 'node:module';
import { extname, join } from 'node:path';
import type { RawMap } from '../../core/maps/raw-map.js';
import type { ScriptLanguage } from '../../core/translate/adapter.js';
import type { ScriptOptions } from '../../core/translate/script-options.js';

/** The part of TypeScript 5 or 6, as a library, that is used here. */
interface TypeScript {
  version: string;
  transpileModule?(
    source: string,
    options: { fileName: string; compilerOptions: Record<string, unknown>; reportDiagnostics?: boolean },
  ): { outputText: string; sourceMapText?: string };
  ScriptTarget: Record<string, number>;
  ModuleKind: Record<string, number>;
  JsxEmit: Record<string, number>;
}

interface Babel {
  transformAsync(source: string, options: object): Promise<{ code?: string | null; map?: RawMap | null } | null>;
}

/** A script without decorators, as far as possible the same otherwise. */
export interface Lowered {
  text: string;
  language: ScriptLanguage;
  map: RawMap;
}

/**
 * Writes the standard's decorators (ECMA TC39, stage 3 of 2023-11) in syntax that browsers run, by a translator of the project's
 * own: TypeScript 5 or 6, or Babel with its plugin for them. `undefined` where it has neither.
 */
export async function lowerDecorators(
  root: string,
  { id, source, options }: { id: string; source: string; options: ScriptOptions },
): Promise<Lowered | undefined> {
  const require = createRequire(join(root, 'package.json'));
  const typescript = found<TypeScript>(require, 'typescript');
  if (typescript?.transpileModule) return byTypeScript(typescript, id, source, options);
  const babel = found<Babel>(require, '@babel/core');
  const plugin = resolved(require, '@babel/plugin-proposal-decorators');
  if (!babel || !plugin) return undefined;
  const isTypeScript = /\.[mc]?tsx?$/.test(id);
  const syntax = isTypeScript ? ['typescript'] : [];
  const result = await babel.transformAsync(source, {
    filename: id,
    babelrc: false,
    configFile: false,
    sourceMaps: true,
    parserOpts: { plugins: [...syntax, ...(/\.[mc]?ts$/.test(id) ? [] : ['jsx'])] },
    plugins: [[plugin, { version: '2023-11' }]],
  });
  const language = isTypeScript ? (/\.[mc]?ts$/.test(id) ? 'ts' : 'tsx') : 'jsx';
  return result?.code && result.map ? { text: result.code, language, map: result.map } : undefined;
}

function byTypeScript(typescript: TypeScript, id: string, source: string, options: ScriptOptions): Lowered | undefined {
  const { ScriptTarget, ModuleKind, JsxEmit } = typescript;
  const { outputText, sourceMapText } = typescript.transpileModule!(source, {
    fileName: extname(id) === '.js' ? `${id}x` : id,
    compilerOptions: {
      target: ScriptTarget.ES2022,
      module: ModuleKind.ESNext,
      jsx: JsxEmit.Preserve,
      allowJs: true,
      experimentalDecorators: false,
      useDefineForClassFields: options.definedFields,
      verbatimModuleSyntax: options.verbatimImports,
      isolatedModules: true,
      sourceMap: true,
      removeComments: false,
    },
  });
  if (sourceMapText === undefined) return undefined;
  return {
    text: outputText.replace(/\n\/\/# sourceMappingURL=.*\s*$/, '\n'),
    language: 'jsx',
    map: JSON.parse(sourceMapText) as RawMap,
  };
}

function found<T>(require: NodeJS.Require, name: string): T | undefined {
  try {
    return require(name) as T;
  } catch {
    return undefined; // another one may be there
  }
}

function resolved(require: NodeJS.Require, name: string): string | undefined {
  try {
    return require.resolve(name);
  } catch {
    return undefined;
  }
}
