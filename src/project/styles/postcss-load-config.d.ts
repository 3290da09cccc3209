declare module 'postcss-load-config/src/plugins.js' {
  import type { AcceptedPlugin } from 'postcss';

  /** The plugins of a configuration, those that are named loaded as from a file. */
  export default function loadPlugins(config: { plugins: unknown }, file: string): Promise<AcceptedPlugin[]>;
}
