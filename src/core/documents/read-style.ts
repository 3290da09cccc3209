import type { CssSyntaxError, Postcss, Root } from 'postcss';
import type valueParser from 'postcss-value-parser';
import { lazily } from '../lazily.js';
import { type Problem, problemAt } from '../problem/problem.js';
import { lineStarts } from '../text/line-index.js';
import { importsOf } from './style-imports.js';

/** A place in a style sheet that names another file. */
export interface StyleReference {
  /** `sheet` for `@import`, `file` for `url()` and `image-set()`. */
  kind: 'sheet' | 'file';
  specifier: string;
  /** Offsets of the specifier as it's written, without its quotes. */
  start: number;
  end: number;
  /** It's imported into a layer or under conditions. */
  isConditional?: true;
}

/** What a style sheet refers to, and the `@import`s in it that browsers ignore for where they stand. */
export interface StyleReferences {
  references: StyleReference[];
  ignored: StyleReference[];
}

const postcss = lazily<Postcss>('postcss');
const parseValue = lazily<typeof valueParser>('postcss-value-parser');

const elsewhere = /^(?:[a-z][a-z0-9+.-]*:|\/\/|#)/i;

/** Finds what a style sheet refers to, by offsets in its text, or the problem that keeps it from being parsed. */
export function readStyle(text: string, file: string): StyleReferences | Problem {
  let root: Root;
  try {
    root = postcss().parse(text);
  } catch (thrown) {
    const error = thrown as CssSyntaxError;
    if (error.name !== 'CssSyntaxError') throw error;
    const start = (lineStarts(text)[(error.line ?? 1) - 1] ?? 0) + (error.column ?? 1) - 1;
    return problemAt({ file, text, start }, { code: 'syntax-error', message: `${error.reason}.` });
  }
  const all: StyleReference[] = [];
  const ignored: StyleReference[] = [];
  const late = /@import/i.test(text) ? new Set(importsOf(root).ignored) : undefined;
  root.walk((node) => {
    const start = node.source?.start?.offset;
    if (start === undefined) return;
    if (node.type === 'decl' && /url\(|image-set\(/i.test(node.value)) {
      const value = node.raws.value?.raw ?? node.value;
      collectFiles(value, start + node.prop.length + (node.raws.between ?? ':').length, all);
    } else if (node.type === 'atrule' && node.name.toLowerCase() === 'import') {
      collectImport(
        node.raws.params?.raw ?? node.params,
        start + 1 + node.name.length + (node.raws.afterName ?? '').length,
        late?.has(node) ? ignored : all,
      );
    }
  });
  const isHere = ({ specifier }: StyleReference) => specifier !== '' && !elsewhere.test(specifier);
  return { references: all.filter(isHere), ignored: ignored.filter(isHere) };
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
  const [first, ...rest] = parseValue()(params).nodes.filter(({ type }) => type !== 'space' && type !== 'comment');
  const isUrl = first?.type === 'function' && first.value.toLowerCase() === 'url';
  const url = isUrl ? first.nodes[0] : first?.type === 'string' ? first : undefined;
  if (url) references.push({ ...referenceTo('sheet', url, offset), ...(rest.length > 0 ? { isConditional: true } : {}) });
}

function referenceTo(kind: StyleReference['kind'], node: valueParser.Node, offset: number): StyleReference {
  const start = offset + node.sourceIndex + (node.type === 'string' ? 1 : 0);
  return { kind, specifier: unescaped(node.value), start, end: start + node.value.length };
}

/** What a string or a URL says (CSS Syntax Level 3, 4.3.7). */
function unescaped(written: string): string {
  if (!written.includes('\\')) return written;
  return written.replace(/\\(?:\r?\n|([0-9a-f]{1,6})\s?|([\s\S]))/gi, (_, code: string | undefined, sign: string | undefined) => {
    const point = Number.parseInt(code ?? '', 16);
    return code === undefined ? (sign ?? '') : point > 0 && point < 0x110000 ? String.fromCodePoint(point) : '\ufffd';
  });
}
