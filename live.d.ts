// Types of `import.meta.live`: add "vine-spark/live" to "types" in tsconfig.json.
interface VineLive {
  /** Handed on from one instance of the module to the next; an empty object at first. */
  readonly state: Record<string, unknown>;
  /** This module takes its own updates. The callback is called with the fresh exports. */
  take(callback?: (exports: Record<string, unknown>) => void): void;
  /** This module takes updates of what it imports, without running again. */
  take(dependency: string | readonly string[], callback: (exports: Record<string, unknown>) => void): void;
  /** Called before this instance is replaced or dropped. */
  cleanup(callback: (state: Record<string, unknown>) => void): void;
  /** Updates of this module reload the page; called in a `take` callback it reloads now. */
  refuse(reason?: string): void;
  /** Says in the terminal whose state starts anew in the update under way. */
  anew(...names: string[]): void;
}
interface ImportMeta {
  /** Absent in a production build. */
  readonly live?: VineLive;
  /** URL prefix of the front end, with a slash at both ends. */
  readonly base: string;
}
declare module '*.css';
declare module '*.svg' {
  const url: string;
  export default url;
}
declare module '*.png' {
  const url: string;
  export default url;
}
declare module '*.vue' {
  // biome-ignore lint/suspicious/noExplicitAny: what a component is, its framework's own tools say
  const component: any;
  export default component;
}
declare module '*.svelte' {
  // biome-ignore lint/suspicious/noExplicitAny: what a component is, its framework's own tools say
  const component: any;
  export default component;
}
