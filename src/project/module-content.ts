import type { Linked } from '../core/link/linked.js';
import type { RuntimeEdges } from '../core/pieces/piece.js';
import type { StyleReference } from '../core/translate/read-style.js';
import type { RawMap } from '../core/translate/translate-script.js';

/** A module with code to run: script, JSON, or the stand-in for a style sheet or a file used by its URL. */
export interface ScriptContent {
  kind: 'script';
  source: string;
  map?: RawMap;
  linked: Linked;
  edges: RuntimeEdges;
  /** Lies in node_modules. */
  inPackage: boolean;
  /** Linked in the checked form. */
  isChecked: boolean;
}

export interface StyleContent {
  kind: 'style';
  source: string;
  references: StyleReference[];
  /** For each reference the id it leads to; `undefined` for what is not a file of the project. */
  targets: (string | undefined)[];
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
