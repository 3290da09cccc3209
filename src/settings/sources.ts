import { readFileSync } from 'node:fs';
import { basename, relative, resolve, sep } from 'node:path';
import browserslist from 'browserslist';
import { lineStarts, positionAt } from '../core/text/line-index.js';
import { type CommandLineSettings, type EffectiveSettings, effectiveSettings } from './effective.js';
import { sourceOfVariable } from './env-files.js';
import { readSettings } from './read-settings.js';
import { settingDocs } from './setting-docs.js';
import { placeOfSetting } from './setting-place.js';

/** A setting in force: its value as a settings file would hold it, and where that comes from. */
export interface SettingInForce {
  name: string;
  value: string;
  /** `the default`, a file with its line, an option, or another file. */
  from: string;
  isDefault: boolean;
}

/** The options of the command line that stand for settings. */
const options: Record<string, keyof CommandLineSettings> = {
  base: 'base',
  'listen.host': 'host',
  'listen.port': 'port',
  'listen.exact': 'exactPort',
  'listen.https': 'https',
  types: 'types',
  'output.folder': 'out',
  'output.sourceMaps': 'sourceMaps',
  targets: 'targets',
};
const optionNames: Partial<Record<keyof CommandLineSettings, string>> = {
  exactPort: '--exact-port',
  sourceMaps: '--source-maps',
};

/** Every setting with its value and where that comes from, in the order of the documentation. */
export async function settingsInForce(
  folder: string,
  line: CommandLineSettings,
): Promise<{ settings: EffectiveSettings; inForce: SettingInForce[] }> {
  const settings = await effectiveSettings(folder, line);
  const read = settings.file === undefined ? undefined : await readSettings(settings.root, settings.file);
  const text = settings.file === undefined ? '' : readFileSync(settings.file, 'utf8');
  const inForce = Object.keys(settingDocs)
    .filter((name) => name !== '$schema')
    .map((name): SettingInForce => {
      const option = options[name];
      if (option !== undefined && line[option] !== undefined)
        return { name, value: shown(line[option]), from: optionNames[option] ?? `--${option}`, isDefault: false };
      const path = name.split('.');
      const own = path.reduce<unknown>((at, key) => (at as Record<string, unknown> | undefined)?.[key], read?.settings);
      const added =
        name === 'forward'
          ? line.forward?.map(({ path: from, to }) => ({ paths: [from], to }))
          : name === 'run'
            ? line.run
            : undefined;
      if (own !== undefined || added !== undefined) {
        const place = own === undefined ? undefined : placeOfSetting(settings.file!, text, path, true);
        const at = place === undefined ? '' : `:${positionAt(lineStarts(text), place.start).line}`;
        const sources = [
          ...(added === undefined ? [] : [`--${name}`]),
          ...(own === undefined ? [] : [`${basename(settings.file!)}${at}`]),
        ];
        return {
          name,
          value: shown(added === undefined ? own : [...added, ...((own as unknown[] | undefined) ?? [])]),
          from: sources.join(', ') + (name === 'expose' ? variablesOf(settings, own as string[]) : ''),
          isDefault: false,
        };
      }
      const found = name === 'targets' ? targetsOf(settings.root) : undefined;
      if (found) return { name, ...found, isDefault: false };
      return { name, value: standardOf(name, settings), from: sourceOf(name, line), isDefault: true };
    });
  return { settings, inForce };
}

/** Where each exposed variable comes from. */
function variablesOf({ root, mode }: EffectiveSettings, names: readonly string[]): string {
  const found = names.map((name) => `${name}: ${sourceOfVariable(root, mode, name, process.env) ?? 'nowhere'}`);
  return found.length === 0 ? '' : ` (${found.join(', ')})`;
}

/** The targets that the environment, the project's package.json or its browserslist file names. */
function targetsOf(root: string): { value: string; from: string } | undefined {
  const { BROWSERSLIST: given, BROWSERSLIST_CONFIG: named } = process.env;
  let query: string | string[] | undefined;
  try {
    query = browserslist.loadConfig({ path: root, env: 'production' });
  } catch {
    return undefined; // a build tells what is wrong with it
  }
  if (query === undefined) return undefined;
  const file = named ? resolve(named) : browserslist.findConfigFile(root);
  const from = given || file === undefined ? 'the environment' : relative(root, file).split(sep).join('/');
  return { value: shown([query].flat().join(', ')), from };
}

function standardOf(name: string, { routes }: EffectiveSettings): string {
  if (name === 'pages') return shown(Object.fromEntries(routes.map(({ pattern, page }) => [pattern, page])));
  return settingDocs[name]!.standard.replace(/^`(.*)`$/, '$1');
}

function sourceOf(name: string, line: CommandLineSettings): string {
  if (name === 'pages') return line.page === undefined ? 'the HTML files of the folder' : 'the command line';
  return 'the default';
}

/** A value as a settings file would hold it; functions by what they are. */
export function shown(value: unknown): string {
  if (typeof value === 'string') return `'${value.replace(/[\\']/g, '\\$&').replace(/\n/g, '\\n')}'`;
  if (typeof value === 'function') return `function ${value.name}`.trim();
  if (value instanceof RegExp || typeof value !== 'object' || value === null) return String(value);
  if (Array.isArray(value)) return `[${value.map(shown).join(', ')}]`;
  const members = Object.entries(value).map(
    ([key, member]) => `${/^[A-Za-z_$][\w$]*$/.test(key) ? key : shown(key)}: ${shown(member)}`,
  );
  return members.length === 0 ? '{}' : `{ ${members.join(', ')} }`;
}

/** A settings file that holds what is in force, with every setting explained. Undone by deleting it. */
export function settingsFile(inForce: readonly SettingInForce[]): string {
  const groups = new Map<string, SettingInForce[]>();
  for (const setting of inForce) {
    const [group = ''] = setting.name.split('.');
    groups.set(group, [...(groups.get(group) ?? []), setting]);
  }
  const entries = [...groups].map(([group, settings]) => {
    const isWhole = settings.length === 1 && settings[0]!.name === group;
    if (isWhole) return entry(settings[0]!, group, '  ');
    const inner = settings.map((setting) => entry(setting, setting.name.slice(group.length + 1), '    '));
    return `  ${group}: {\n${inner.join('')}  },\n`;
  });
  return `// What Vine Spark does in this project. Every line may go; without this file it does the same as before.\nimport type { Settings } from 'vine-spark';\n\nexport default {\n${entries.join('\n')}} satisfies Settings;\n`;
}

function entry({ name, value, isDefault }: SettingInForce, key: string, indent: string): string {
  const { what, example } = settingDocs[name]!;
  const comment = `${indent}// ${what.replaceAll('`', '')}\n`;
  if (!isDefault || name === 'pages') return `${comment}${indent}${key}: ${value},\n`;
  return `${comment}${indent}// ${key}: ${example},\n`;
}
