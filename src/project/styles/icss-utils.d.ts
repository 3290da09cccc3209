declare module 'icss-utils' {
  import type { Root } from 'postcss';

  /** Takes `:import` and `:export` rules out of a sheet: imported names by specifier, and exported values. */
  export function extractICSS(root: Root): {
    icssImports: Record<string, Record<string, string>>;
    icssExports: Record<string, string>;
  };
  /** Puts values in the places of names: in declarations, selectors and at-rules. */
  export function replaceSymbols(root: Root, replacements: Record<string, string>): void;
  /** Puts values in the places of names in one value. */
  export function replaceValueSymbols(value: string, replacements: Record<string, string>): string;
}
