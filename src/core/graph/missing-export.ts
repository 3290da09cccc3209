import { splitId } from '../module-id.js';
import { nearMiss } from '../problem/near-miss.js';
import { type Problem, problemAt } from '../problem/problem.js';
import type { MissingName } from './check-imports.js';

export interface MissingExport extends MissingName {
  /** The importer and its source. */
  file: string;
  text: string;
  specifier: string;
}

/** The problem of an import whose name isn't exported, shown where the name stands. */
export function missingExportProblem({
  file,
  text,
  record,
  specifier,
  from: id,
  known,
  circle,
  lacking,
}: MissingExport): Problem {
  const { file: from, type } = splitId(id);
  const { name } = record;
  const wanted = lacking?.name ?? name;
  if (circle) {
    const others = [...new Set(circle.map((other) => splitId(other).file))].filter((other) => other !== file);
    return problemAt(placeOfName(file, text, name, specifier), {
      code: 'export-missing',
      message:
        others.length === 0
          ? `${file} passes '${name}' on from itself.`
          : `'${name}' is passed on in a circle, by ${[file, ...others].join(', ')}, and none of them makes it.`,
      hint: `Name the module that makes it: '${specifier}' leads to ${from}.`,
    });
  }
  const guess = nearMiss(wanted, known);
  const others = known.filter((other) => other !== 'default');
  const listed =
    known.length === 0
      ? 'It exports nothing.'
      : `It exports ${known.slice(0, 8).join(', ')}${known.length > 8 ? ` and ${known.length - 8} more` : ''}.`;
  const lacks =
    wanted === 'default' ? 'has no default export' : `does not export ${lacking?.name === name ? 'it' : `'${wanted}'`}`;
  const message = lacking ? `${from} passes '${name}' on from ${splitId(lacking.id).file}, which ${lacks}.` : `${from} ${lacks}.`;
  const suggestion =
    wanted === 'default' && others.length > 0 && !lacking
      ? `Import a name in braces: import { ${others[0]} } from '${specifier}'.`
      : guess
        ? `Did you mean '${guess}'?`
        : type === 'json'
          ? "A module imported with { type: 'json' } has nothing but a default export."
          : '';
  // Compilers of components may keep imports of types that are written like others.
  const mayBeType = /\.(?:svelte|vue)$/.test(file) && /\.[cm]?tsx?$/.test(splitId(lacking?.id ?? id).file);
  const ofType = mayBeType ? `If it is a type: import type { ${name} }.` : '';
  return problemAt(placeOfName(file, text, name, specifier), {
    code: 'export-missing',
    message,
    hint: [suggestion, ofType, listed].filter(Boolean).join(' '),
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
