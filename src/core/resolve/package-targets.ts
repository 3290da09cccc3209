/** A target as `package.json` lists it; `null` for what it keeps to itself, `undefined` where it says nothing. */
type Target = string | null | undefined;

/**
 * What `exports` of a package gives for a path in it, `.` or `./path` (Node.js, Modules: Packages, PACKAGE_EXPORTS_RESOLVE). Beside what
 * the standard knows, names that end with a slash stand for folders, as they once did.
 */
export function exportedTarget(exports: unknown, path: string, conditions: ReadonlySet<string>): Target {
  const hasPaths = isMap(exports) && Object.keys(exports).some((key) => key.startsWith('.'));
  if (!hasPaths) return path === '.' ? targetOf(exports, conditions) : undefined;
  return mappedTarget(exports, path, conditions);
}

/** What `imports` of a package gives for a name that begins with `#` (the same, PACKAGE_IMPORTS_RESOLVE). */
export function importedTarget(imports: unknown, name: string, conditions: ReadonlySet<string>): Target {
  return isMap(imports) ? mappedTarget(imports, name, conditions) : undefined;
}

function mappedTarget(map: Record<string, unknown>, name: string, conditions: ReadonlySet<string>): Target {
  if (Object.hasOwn(map, name) && !/[*]|\/$/.test(name)) return targetOf(map[name], conditions);
  const [best] = Object.keys(map)
    .filter((key) => key.split('*').length === 2 && isMatch(key, name))
    .sort(bySpecificity);
  if (best !== undefined) {
    const [before = '', after = ''] = best.split('*');
    return targetOf(map[best], conditions)?.replaceAll('*', () => name.slice(before.length, name.length - after.length));
  }
  const [folder] = Object.keys(map)
    .filter((key) => key.endsWith('/') && name.startsWith(key))
    .sort((a, b) => b.length - a.length);
  return folder === undefined ? undefined : addedTo(targetOf(map[folder], conditions), name.slice(folder.length));
}

function isMatch(pattern: string, name: string): boolean {
  const [before = '', after = ''] = pattern.split('*');
  if (!name.startsWith(before) || name === before) return false;
  return after === '' || (name.endsWith(after) && name.length >= pattern.length);
}

/** PATTERN_KEY_COMPARE: more in front of the star comes first, then more in all. */
function bySpecificity(a: string, b: string): number {
  return b.indexOf('*') - a.indexOf('*') || b.length - a.length;
}

function addedTo(target: Target, rest: string): Target {
  return target?.endsWith('/') ? target + rest : target;
}

/** PACKAGE_TARGET_RESOLVE: the first condition that holds and leads somewhere, and of a list the first target that may be one. */
function targetOf(value: unknown, conditions: ReadonlySet<string>): Target {
  if (typeof value === 'string' || value === null) return value;
  if (Array.isArray(value)) {
    const found = value.map((item) => targetOf(item, conditions)).filter((target) => target !== undefined);
    return found.find((target) => target !== null && mayBeTarget(target)) ?? found[0];
  }
  if (!isMap(value)) return undefined;
  for (const [condition, inner] of Object.entries(value)) {
    if (condition !== 'default' && !conditions.has(condition)) continue;
    const target = targetOf(inner, conditions);
    if (target !== undefined) return target;
  }
  return undefined;
}

/** Whether a target stays in its package, or is another one. */
function mayBeTarget(target: string): boolean {
  return !target.startsWith('.') ? !target.startsWith('/') : /^\.\/(?!.*(?:^|\/)(?:\.{1,2}|node_modules)(?:\/|$))/.test(target);
}

function isMap(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
