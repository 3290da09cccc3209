import { existsSync } from 'node:fs';
import { join, relative } from 'node:path';
import { entryTags } from '../../build/loads.js';
import { lastManifest } from '../../build/output-folder.js';
import { VineError } from '../../core/problem/problem.js';
import { BuiltHost } from '../../server/built-host.js';
import { type CommandLineSettings, effectiveSettings } from '../../settings/effective.js';
import { certificateOf } from '../certificate-of.js';
import { listeningReport } from '../listening-report.js';
import { openBrowser } from '../open-browser.js';
import { jsonReporter } from '../report/json-reporter.js';
import { problemsOnly } from '../report/reporter.js';
import { terminalReporter } from '../report/terminal-reporter.js';
import { closeOnSignals, Failures, goOnAfterErrors } from '../staying-alive.js';
import type { ServeRequest } from './serve-request.js';

/**
 * `serve --built`: serves what the last build wrote, until the process is asked to end.
 *
 * @throws VineError `output-missing` where there is no build.
 */
export async function serveBuilt({ version, page, options }: ServeRequest): Promise<void> {
  const from = performance.now();
  const line: CommandLineSettings = { ...options, ...(page === undefined ? {} : { page }) };
  const settings = await effectiveSettings(process.cwd(), line, 'production');
  const { folder } = settings.output;
  const shown = relative(process.cwd(), folder) || folder;
  const manifest = lastManifest(folder, undefined);
  if (!manifest && !settings.routes.some(({ page: id }) => existsSync(join(folder, id))))
    throw new VineError({
      code: 'output-missing',
      message: `There is no build in ${shown}.`,
      hint: 'Write one with vine-spark build, or name its folder with output.folder in the settings.',
    });
  const notes: string[] = [];
  const usesTape = options.record !== undefined || options.replay !== undefined || options.replayOnly;
  const tape = usesTape ? (await import('../tape.js')).tapeOf(options, version, (note) => notes.push(note)) : {};
  const base = manifest?.base ?? settings.base;
  if (base !== settings.base) notes.push(`the build was made for ${base}, so that is where it is served`);
  const { host, port, exact, names } = settings.listen;
  const trust = { names, origins: settings.embed.from };
  const { routes, forward } = settings;
  const certificate = await certificateOf(settings);
  notes.push(...certificate.notes);
  const server = new BuiltHost({
    ...certificate.given,
    entries: manifest ? entryTags(manifest) : {},
    folder,
    base,
    routes,
    forward,
    trust,
    tape,
    host,
    port,
    exact,
  });
  const write = (text: string) => void process.stdout.write(text);
  const full = options.json ? jsonReporter(write) : terminalReporter(write, undefined);
  const reporter = options.quiet ? problemsOnly(full) : full;
  await server.listen();
  const failures = new Failures(reporter);
  server.events.on('failure', ({ what, error }) => failures.tell(what, error));
  server.events.on('backend', (change) => reporter.tell({ event: 'backend', change }));
  if (options.traffic) server.events.on('exchange', (report) => reporter.tell({ event: 'exchange', report }));
  closeOnSignals(() => server.close());
  goOnAfterErrors((error) => failures.tell('something that nothing waited for', error));
  const report = listeningReport(version, settings, server);
  reporter.tell({ event: 'listening', report });
  const files = Object.keys(manifest?.files ?? {}).length;
  reporter.tell({
    event: 'ready',
    report: { ...report, notes, modules: 0, built: { folder: shown, files }, ms: performance.now() - from },
  });
  if (options.open) await openBrowser(server.url, reporter);
}
