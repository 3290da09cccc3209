import type { Loaded } from '../../core/graph/module-content.js';
import { linkCommonJs } from '../../core/link/link-commonjs.js';
import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { contentHash } from '../../core/text/content-hash.js';
import { SourceText } from '../../core/text/source-text.js';

/** The module that exports nothing. */
export function withoutExports(): Promise<Loaded> {
  return made('module.exports = {};');
}

/**
 * What stands for a part of Node.js that a package asks for: each member is a function that says why it can't do anything. So what only looks for it,
 * keeps it or makes a class of it goes on.
 */
export function standIn(name: string): Promise<Loaded> {
  const why = JSON.stringify(`is a part of Node.js ('${name}') that does not exist in browsers`);
  return made(`const members = new Map();
module.exports = new Proxy({}, {
  get(target, key) {
    if (typeof key === 'symbol' || key === '__esModule' || key === 'then' || key === 'default' || key in target) return target[key];
    if (!members.has(key)) members.set(key, function () { throw new Error(${JSON.stringify(`${name}.`)} + key + ' ' + ${why}); });
    return members.get(key);
  },
});
`);
}

/** A CommonJS module that no file holds. */
async function made(text: string): Promise<Loaded> {
  const linked = await linkCommonJs({ text, handle: 'my', constants: {} });
  const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], commonjs: true };
  return {
    content: { kind: 'script', source: new SourceText(''), linked, edges, inPackage: true, isChecked: false, urls: [] },
    edges: [],
  };
}
