/** Strings between which expressions stand, in a template or in a sum. */
const template = /^`((?:[^`\\$]|\$(?!\{)|\$\{[^`{}]*\})*)`$/;
const sum = /^(['"])([^'"\\]*)\1\s*\+[^'"`]+?(?:\+\s*(['"])([^'"\\]*)\3\s*)?$/;

/**
 * The files that an expression may name: `./flags/*.svg` for `` `./flags/${code}.svg` `` and for `'./flags/' + code + '.svg'`, where `*`
 * stands for anything but a slash. `undefined` where it may be anything: a path has to begin it, and a folder or an ending to say more.
 */
export function urlPattern(expression: string): string | undefined {
  const text = expression.trim();
  const parts = sum.exec(text);
  const pattern = parts ? `${parts[2]}*${parts[4] ?? ''}` : template.exec(text)?.[1]?.replace(/\$\{[^`{}]*\}/g, '*');
  if (pattern === undefined || !pattern.includes('*') || !/^\.{1,2}\/[^?#\\:]*$/.test(pattern)) return undefined;
  const says = pattern.replace(/^(?:\.{1,2}\/)+/, '');
  return /^[^*]+\//.test(says) || /\*[^*/]*\.\w+$/.test(says) ? pattern : undefined;
}

/** Whether a path is one of those that a pattern stands for. */
export function matchesPattern(pattern: string, path: string): boolean {
  const parts = pattern.split('*').map((part) => part.replace(/[.+?^${}()|[\]\\]/g, '\\$&'));
  return new RegExp(`^${parts.join('[^/]*')}$`).test(path);
}
