import type { ImportRecord } from '../link/linked.js';
import { splitId } from '../module-id.js';
import { nearMiss } from '../problem/near-miss.js';
import { type Problem, problemAt } from '../problem/problem.js';

export interface MissingExport {
  /** The importer and its source. */
  file: string;
  text: string;
  record: ImportRecord;
  specifier: string;
  /** The module that doesn't export the name, and what it does export. */
  from: string;
  known: readonly string[];
}

/** The problem of an import whose name isn't exported, shown where the name stands. */
export function missingExportProblem({ file, text, record, specifier, from: id, known }: MissingExport): Problem {
  const { file: from, type } = splitId(id);
  const { name } = record;
  const guess = nearMiss(name, known);
  const others = known.filter((other) => other !== 'default');
  const listed =
    known.length === 0
      ? 'It exports nothing.'
      : `It exports ${known.slice(0, 8).join(', ')}${known.length > 8 ? ` and ${known.length - 8} more` : ''}.`;
  const message = name === 'default' ? `${from} has no default export.` : `${from} does not export '${name}'.`;
  const suggestion =
    name === 'default' && others.length > 0
      ? `Import a name in braces: import { ${others[0]} } from '${specifier}'.`
      : guess
        ? `Did you mean '${guess}'?`
        : type === 'json'
          ? "A module imported with { type: 'json' } has nothing but a default export."
          : '';
  return problemAt(placeOfName(file, text, name, specifier), {
    code: 'export-missing',
    message,
    hint: [suggestion, listed].filter(Boolean).join(' '),
  });
}

/** Where an import statement names `name`, or else where it names the module. */
function placeOfName(file: string, text: string, name: string, specifier: string) {
  const quoted = new RegExp(`(['"])${specifier.replace(/[$()*+.?[\\\]^{|}]/g, '\\$&')}\\1`, 'g');
  let first: { file: string; text: string; start: number; end: number } | undefined;
  for (const { index } of text.matchAll(quoted)) {
    first ??= { file, text, start: index + 1, end: index + 1 + specifier.length };
    const from = Math.max(text.lastIndexOf('import', index), text.lastIndexOf('export', index));
    if (from === -1) continue;
    const at = new RegExp(`(?<![\\w$])${name.replace(/[$]/g, '\\$&')}(?![\\w$])`).exec(text.slice(from + 6, index))?.index;
    if (at !== undefined && name !== 'default') return { file, text, start: from + 6 + at, end: from + 6 + at + name.length };
  }
  return first ?? { file, text, start: 0 };
}
