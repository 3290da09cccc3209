import { relative } from 'node:path';
import { entryTags } from '../build/loads.js';
import { lastManifest } from '../build/output-folder.js';
import { Failures } from '../cli/staying-alive.js';
import { VineError } from '../core/problem/problem.js';
import { BuiltHost } from '../server/built-host.js';
import type { EntryTags, FrontEndOptions } from './options.js';
import { reporterFor, settingsReader } from './settings.js';

/**
 * What a build wrote.
 *
 * @throws VineError `output-missing`.
 */
export async function builtFrontEnd(options: FrontEndOptions) {
  const settings = await settingsReader(options, 'production')();
  const { folder } = settings.output;
  const manifest = lastManifest(folder, undefined);
  if (!manifest) {
    const message = `There is no build in ${relative(process.cwd(), folder) || folder}.`;
    throw new VineError({ code: 'output-missing', message, hint: 'Write one with vine-spark build.' });
  }
  const { routes, forward, listen, embed } = settings;
  const trust = { names: listen.names, origins: embed.from };
  const place = { host: 'localhost', port: 0, exact: false };
  const host = new BuiltHost({
    entries: entryTags(manifest),
    folder,
    base: manifest.base,
    routes,
    forward,
    trust,
    tape: {},
    ...place,
    isInside: true,
  });
  const failures = new Failures(reporterFor(options));
  host.events.on('failure', ({ what, error }) => failures.tell(what, error));
  const tags = (entry: string): EntryTags => {
    const found = manifest.entries?.[entry]?.tags;
    if (found) return found;
    const message = `The build in ${relative(process.cwd(), folder) || folder} has no entry ${entry}.`;
    throw new VineError({ code: 'output-missing', message, hint: `List it before you build: embed: { entries: ['${entry}'] }` });
  };
  return { handle: host.handle.bind(host), upgrade: host.upgrade.bind(host), tags, close: () => host.close() };
}
