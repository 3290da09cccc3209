/** What a page or an entry loads, as URLs. */
export interface ManifestPage {
  scripts: string[];
  styles: string[];
  /** What `import()`s on it may bring. */
  later: string[];
}

export interface ManifestFile {
  bytes: number;
  /** Of scripts and styles. */
  gzip?: number;
  /** Where the settings ask for it. */
  integrity?: string;
}

/** What a build wrote, for backends that render their own pages; `manifest.schema.json` is its JSON Schema. `version` changes with the form. */
export interface Manifest {
  /** Tells the file from others of its name. */
  builtBy: 'Vine Spark';
  version: 1;
  /** URL prefix of all files. */
  base: string;
  /** By the page's path in the project. */
  pages: Record<string, ManifestPage>;
  /** Source -> its file in the output folder. */
  assets: Record<string, string>;
  /** Every file that was written. */
  files: Record<string, ManifestFile>;
}
