import { problemsOnly, type Reporter } from '../cli/report/reporter.js';
import { terminalReporter } from '../cli/report/terminal-reporter.js';
import type { Mode } from '../core/mode.js';
import { type CommandLineSettings, type EffectiveSettings, effectiveSettings } from '../settings/effective.js';
import type { FrontEndOptions } from './options.js';

/** Reads the settings that options and the settings file come to, now and whenever it's called. */
export function settingsReader(options: FrontEndOptions, mode: Mode): () => Promise<EffectiveSettings> {
  const { root = process.cwd(), settingsFile, names, hot: _, print: __, ...given } = options;
  const line: CommandLineSettings = {
    given: { ...given, ...(names === undefined ? {} : { listen: { names } }) },
    ...(settingsFile === undefined ? {} : { settings: settingsFile }),
  };
  return () => effectiveSettings(root, line, mode);
}

/** Who prints what happens. */
export function reporterFor({ print = 'all' }: FrontEndOptions): Reporter {
  if (print === 'nothing') return { tell() {} };
  const full = terminalReporter((text) => void process.stdout.write(text));
  return print === 'problems' ? problemsOnly(full) : full;
}
