/** What a page or an entry loads, as URLs. */
export interface ManifestPage {
  scripts: string[];
  styles: string[];
}

/** What a build wrote, for backends that render their own pages. `version` changes with the form. */
export interface Manifest {
  /** Tells the file from others of its name. */
  builtBy: 'Vine Spark';
  version: 1;
  /** By the page's path in the project. */
  pages: Record<string, ManifestPage>;
  /** Source -> its file in the output folder. */
  assets: Record<string, string>;
  /** Every file that was written, with its size in bytes. */
  files: Record<string, { bytes: number }>;
}
