import { readFileSync } from 'node:fs';
import type { BuildTargets } from './targets.js';

/** The page's runtime, which is there in three editions, each as it is and made smaller. */
export function runtimeFor({ edition, lacksImport }: BuildTargets, isSmall: boolean): string {
  const name = `${edition === 5 ? '.es5' : edition === 2022 ? '' : '.es2015'}${isSmall ? '.min' : ''}`;
  const text = readFileSync(new URL(`../browser/built${name}.js`, import.meta.url), 'utf8');
  return lacksImport ? `${withoutImport}\n${text.replace(/\bimport\(/g, 'sparkImport(')}` : text;
}

/** What stands for `import()` in browsers without it: in a worker a script can be loaded, elsewhere nothing that isn't in the build. */
const withoutImport = `var sparkImport = function (url) {
  // Workers that are modules load none.
  try { importScripts(); } catch (_) {
    try { return new Function('url', 'return import(url)')(url); } catch (_) {}
    return Promise.reject(new TypeError('This browser loads no modules: ' + url));
  }
  try { importScripts(url); return Promise.resolve({}); } catch (error) { return Promise.reject(error); }
};`;
