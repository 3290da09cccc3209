import type { Mode } from '../core/mode.js';
import type { Adapter } from '../core/translate/adapter.js';
import { installedVersion } from './compilers.js';
import { looksAtProcess, preprocessorsOf, type RunModule, svelteAdapter } from './svelte.js';
import { vueAdapter } from './vue.js';

/** The adapters for component files that every project has. `root`: absolute path of the project. */
export function frameworkAdapters(root: string, run: RunModule): Adapter[] {
  return [vueAdapter(root), svelteAdapter(root, run)];
}

/** What is known of frameworks when a project is made: switches that they read as global constants. */
export function frameworkConstants(mode: Mode): Record<string, string> {
  return {
    __VUE_OPTIONS_API__: 'true',
    __VUE_PROD_DEVTOOLS__: 'false',
    __VUE_PROD_HYDRATION_MISMATCH_DETAILS__: String(mode === 'development'),
  };
}

/** Conditions by which packages tell what they have for the frameworks that a project lists. */
export function frameworkConditions(description: object | undefined): readonly string[] {
  const { dependencies, devDependencies } = (description ?? {}) as Record<string, object | undefined>;
  return 'svelte' in { ...dependencies, ...devDependencies } ? withSvelte : none;
}

const withSvelte = ['svelte'];
const none: string[] = [];

/** Whether settings of a framework take in what nobody tells of. */
export function haveUntoldParts(root: string): boolean {
  return looksAtProcess(root);
}

/** Versions of the frameworks whose compilers a project uses, `none` for those that it hasn't, and what tells of their preprocessors. */
export function frameworkVersions(root: string): string[] {
  return [...['vue', 'svelte'].map((name) => installedVersion(root, name)), preprocessorsOf(root)];
}
