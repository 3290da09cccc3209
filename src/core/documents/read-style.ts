import type { CssSyntaxError, Postcss, Root } from 'postcss';
import type valueParser from 'postcss-value-parser';
import { lazily } from '../lazily.js';
import { type Problem, problemAt } from '../problem/problem.js';
import { lineStarts } from '../text/line-index.js';

/** A place in a style sheet that names another file. */
export interface StyleReference {
  /** `sheet` for `@import`, `file` for `url()` and `image-set()`. */
  kind: 'sheet' | 'file';
  specifier: string;
  /** Offsets of the specifier without its quotes. */
  start: number;
  end: number;
}

const postcss = lazily<Postcss>('postcss');
const parseValue = lazily<typeof valueParser>('postcss-value-parser');

const elsewhere = /^(?:[a-z][a-z0-9+.-]*:|\/\/|#)/i;

/** Finds what a style sheet refers to, by offsets in its text, or the problem that keeps it from being parsed. */
export function readStyle(text: string, file: string): StyleReference[] | Problem {
  let root: Root;
  try {
    root = postcss().parse(text);
  } catch (thrown) {
    const error = thrown as CssSyntaxError;
    if (error.name !== 'CssSyntaxError') throw error;
    const start = (lineStarts(text)[(error.line ?? 1) - 1] ?? 0) + (error.column ?? 1) - 1;
    return problemAt({ file, text, start }, { code: 'syntax-error', message: `${error.reason}.` });
  }
  const references: StyleReference[] = [];
  root.walk((node) => {
    const start = node.source?.start?.offset;
    if (start === undefined) return;
    if (node.type === 'decl' && /url\(|image-set\(/i.test(node.value)) {
      const value = node.raws.value?.raw ?? node.value;
      collectFiles(value, start + node.prop.length + (node.raws.between ?? ':').length, references);
    } else if (node.type === 'atrule' && node.name.toLowerCase() === 'import') {
      collectImport(
        node.raws.params?.raw ?? node.params,
        start + 1 + node.name.length + (node.raws.afterName ?? '').length,
        references,
      );
    }
  });
  return references.filter(({ specifier }) => specifier !== '' && !elsewhere.test(specifier));
}

function collectFiles(value: string, offset: number, references: StyleReference[]): void {
  parseValue()(value).walk((node) => {
    if (node.type !== 'function') return undefined;
    const name = node.value.toLowerCase();
    if (name === 'url') {
      const [first] = node.nodes;
      if (first) references.push(referenceTo('file', first, offset));
      return false;
    }
    if (name.endsWith('image-set')) {
      for (const child of node.nodes) if (child.type === 'string') references.push(referenceTo('file', child, offset));
    }
    return undefined;
  });
}

function collectImport(params: string, offset: number, references: StyleReference[]): void {
  const [first] = parseValue()(params).nodes.filter(({ type }) => type !== 'space' && type !== 'comment');
  if (first?.type === 'string') references.push(referenceTo('sheet', first, offset));
  else if (first?.type === 'function' && first.value.toLowerCase() === 'url' && first.nodes[0])
    references.push(referenceTo('sheet', first.nodes[0], offset));
}

function referenceTo(kind: StyleReference['kind'], node: valueParser.Node, offset: number): StyleReference {
  const start = offset + node.sourceIndex + (node.type === 'string' ? 1 : 0);
  return { kind, specifier: node.value, start, end: start + node.value.length };
}
