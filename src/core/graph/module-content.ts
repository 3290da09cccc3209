import type { StyleReference } from '../documents/read-style.js';
import type { Linked } from '../link/linked.js';
import type { KeptMap } from '../maps/kept-map.js';
import type { RawMap } from '../maps/raw-map.js';
import type { RuntimeEdges } from '../pieces/runtime-edges.js';
import type { Problem } from '../problem/problem.js';
import type { SourceText } from '../text/source-text.js';
import type { Edge } from './module-graph.js';

/** A file or a worker that a script names by URL. */
export interface UrlTarget {
  kind: 'url' | 'worker';
  specifier: string;
  /** Absent where there is no such file in the project. */
  target?: string;
  /** A worker that is registered as a service worker. */
  isService?: true;
  /** It's one of those that an expression may name. */
  isMatch?: true;
}

/** A module with code to run. */
export interface ScriptContent {
  kind: 'script';
  source: SourceText;
  /** The module as plain JavaScript, as `map` maps it to the source; only where a build is made. */
  text?: string;
  /** It stands for data, such as JSON. */
  isData?: true;
  map?: KeptMap;
  linked: Linked;
  edges: RuntimeEdges;
  /** Lies in node_modules. */
  inPackage: boolean;
  /** Ids of other files that an adapter made it of. */
  dependencies?: string[];
  /** Absolute paths of folders any of whose files may change what an adapter makes. */
  folders?: string[];
  /** What stands in `new URL('…', import.meta.url)`, in source order. */
  urls: UrlTarget[];
  /** Of a part of a file: stands for the whole file and the map to it, which change oftener than the part. */
  sourceHash?: string;
  /** Linked in the checked form. */
  isChecked: boolean;
}

export interface StyleContent {
  kind: 'style';
  /** What the user wrote. */
  source: string;
  /** The file as a debugger shows it, where `source` is only a part of it, on its lines. */
  shownSource?: string;
  /** The CSS made of it, which `references` point into. */
  css: string;
  /** The map from the CSS back to the source, where they differ. */
  map?: RawMap;
  /** Ids of other files that went into the CSS. */
  dependencies: string[];
  /** Absolute paths of folders any of whose files may change the CSS. */
  folders: string[];
  references: StyleReference[];
  /** For each reference the id it leads to; `undefined` for what is not a file of the project. */
  targets: (string | undefined)[];
  /** What a CSS module calls its classes. */
  names?: Readonly<Record<string, string>>;
  linked: Linked;
}

export interface AssetContent {
  kind: 'asset';
  /** Hash of the file. */
  hash: string;
  linked: Linked;
}

/** What the graph holds of a module. */
export type ModuleContent = ScriptContent | StyleContent | AssetContent;

/** A module as far as it could be made: with content and edges, or with what is wrong. */
export type Loaded =
  | { content: ModuleContent; edges: Edge[] }
  /** `edges` lead to what was found all the same, where more may be wrong. `dependencies`: ids of files to look at for a change. */
  | { problems: Problem[]; edges?: Edge[]; dependencies?: string[] };
