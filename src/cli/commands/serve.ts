import { Command } from 'commander';
import { lanes, noTrace } from '../../core/trace.js';
import type { Project } from '../../project/project.js';
import { VineServer } from '../../server/server.js';
import { type CommandLineSettings, effectiveSettings } from '../../settings/effective.js';
import { certificateOf } from '../certificate-of.js';
import { cacheFolderOf, projectOf, servedOf } from '../compose.js';
import { examples } from '../examples.js';
import { installMissing } from '../install-missing.js';
import { keepForNextStart } from '../keep-for-next-start.js';
import { listenForKeys } from '../keys.js';
import { listeningReport } from '../listening-report.js';
import { openBrowser } from '../open-browser.js';
import { parseBase, parseForward, parsePort } from '../options.js';
import { codeFor } from '../phone-code.js';
import { jsonReporter } from '../report/json-reporter.js';
import type { EditorUrl } from '../report/problem-text.js';
import { problemsOnly, type Reporter } from '../report/reporter.js';
import { terminalReporter } from '../report/terminal-reporter.js';
import { Running } from '../running.js';
import { closeOnSignals, Failures, goOnAfterErrors, withPlainSignals } from '../staying-alive.js';
import { traceFile } from '../trace-file.js';
import type { ServeOptions, ServeRequest } from './serve-request.js';

/** `vine-spark serve [page]`. */
export function serveCommand(version: string): Command {
  return new Command('serve')
    .description('serve a page, or all pages of a folder, and update them in place as you edit')
    .argument(
      '[page]',
      'an HTML file, a folder with some, or a component (.tsx, .jsx, .vue, .svelte) to show it alone (default: this folder)',
    )
    .option('--port <n>', 'port to listen on (default: 8463)', parsePort)
    .option('--exact-port', 'fail where the port is in use instead of taking the next free one')
    .option('--host <address>', 'address to listen on; 0.0.0.0 for every one (default: localhost)')
    .option('--https', 'talk by TLS, with a certificate for this machine')
    .option('--qr', 'show a code that opens the page on a phone')
    .option('--components', 'a list of all components in the folder, each with a page of its own')
    .option('--open', 'open the page in a browser')
    .option('--base <path>', 'URL prefix of the whole front end (default: /)', parseBase)
    .option('--forward <path=origin>', 'send a path to a backend, e.g. /api=http://127.0.0.1:8464 (repeatable)', parseForward)
    .option('--run <command>', 'run a program alongside, e.g. "node server.js" (repeatable)', collect)
    .option('--settings <file>', 'settings file (default: vine-spark.config.ts, .js, .mjs or .json)')
    .option('--built', 'serve what the last build wrote, as a plain host would')
    .option('--no-hot', 'reload the page instead of updating it in place')
    .option('--no-cache', 'keep nothing for the next start, and use nothing of the last one')
    .option('--poll', 'look for changes again and again, for network file systems')
    .option('--types', "check types beside, with the project's own TypeScript")
    .option('--console', 'print what pages print, with the lines that do')
    .option('--traffic', 'print a line for each forwarded request')
    .option('--record <file>', 'write forwarded exchanges to a HAR file')
    .option('--record-secrets', 'keep cookies and credentials in the recording')
    .option('--replay <file>', 'answer from a HAR file where the backend cannot be reached')
    .option('--replay-only', 'answer from the HAR file always')
    .option('--replay-delays', 'take as long as the backend took')
    .option('--trace <file>', 'write where time goes, in the Trace Event Format')
    .option('--json', 'print events as NDJSON')
    .option('--quiet', 'print problems only')
    .addHelpText(
      'after',
      examples(
        ['serve', 'the pages of this folder'],
        ['serve index.html --forward /api=http://127.0.0.1:8464', 'a page, and its backend on the same origin'],
        ['serve --run "node server.js" --open', 'the backend alongside; the page opens when it is ready'],
        ['serve --host 0.0.0.0 --https --qr', 'for phones in the same network'],
        ['serve --built', 'what was built, as a host would serve it'],
      ),
    )
    .action(async (page: string | undefined, options: ServeOptions) => {
      const start = options.built ? (await import('./serve-built.js')).serveBuilt : serve;
      await start({ version, options, ...(page === undefined ? {} : { page }) });
    });
}

/** Tells how far a start is that takes a while, until the timer is cleared. */
function watchProgress(project: Project, reporter: Reporter): NodeJS.Timeout {
  const from = performance.now();
  let seen = { id: '', since: from };
  return setInterval(() => {
    const { done, known, reading } = project.progress;
    if (reading !== seen.id) seen = { id: reading ?? '', since: performance.now() };
    const isSlow = reading !== undefined && performance.now() - seen.since > slowModuleMs;
    if (performance.now() - from > quietStartMs)
      reporter.tell({ event: 'progress', done, known, ...(isSlow ? { reading } : {}) });
  }, progressEveryMs).unref();
}

/** A start that is over so soon needs no progress. */
const quietStartMs = 300;
const progressEveryMs = 100;
/** One module that takes so long is named. */
const slowModuleMs = 500;

function collect(value: string, before: string[] = []): string[] {
  return [...before, value];
}

/** Serves until the process is asked to end. Settles when everything stands. */
export async function serve({ version, page, options }: ServeRequest): Promise<void> {
  const from = performance.now();
  const tracing = options.trace === undefined ? undefined : traceFile(options.trace);
  const trace = tracing?.trace ?? noTrace;
  trace.span('start', 'loading the program', 0, {}, from);
  const line: CommandLineSettings = { ...options, ...(page === undefined ? {} : { page }) };
  const folder = process.cwd();
  const settings = await effectiveSettings(folder, line);
  trace.span('start', 'settings', from);
  const notes: string[] = [];
  const usesTape = options.record !== undefined || options.replay !== undefined || options.replayOnly;
  const tape = usesTape ? (await import('../tape.js')).tapeOf(options, version, (note) => notes.push(note)) : {};
  const cacheFolder = options.cache === false ? undefined : cacheFolderOf(settings.root);
  const project = projectOf(settings, { poll: options.poll ?? false, revision: 0, cacheFolder, trace });
  const write = (text: string) => void process.stdout.write(text);
  // Whoever reads a pipe wants no escapes.
  const editorUrl = process.stdout.isTTY ? (...place: Parameters<EditorUrl>) => server.editorUrl(...place) : undefined;
  const full = options.json
    ? jsonReporter(write)
    : terminalReporter(write, editorUrl, { isTerminal: process.stdout.isTTY, width: () => process.stdout.columns });
  const reporter = options.quiet ? problemsOnly(full) : full;
  project.on('warning', (warning) => reporter.tell({ event: 'warning', warning }));
  project.on('note', (text) => reporter.tell({ event: 'note', text }));
  const beforePages = trace.now();
  project.begin();
  trace.span('start', 'pages', beforePages);
  const { host, port, exact } = settings.listen;
  const certificate = await certificateOf(settings);
  notes.push(...certificate.notes);
  if (options.qr && !['0.0.0.0', '::'].includes(settings.listen.host))
    notes.push('phones reach this machine only with --host 0.0.0.0, so the code is of no use to them');
  const server = new VineServer({
    ...certificate.given,
    ...servedOf(settings, project),
    host,
    port,
    exact,
    hot: options.hot,
    console: options.console ?? false,
    tape,
  });
  try {
    const beforeListening = trace.now();
    await server.listen();
    trace.overlapping('start', 'listen', beforeListening, {}, lanes.main);
  } catch (error) {
    await project.close();
    throw error;
  }
  const running = new Running({
    settings,
    project,
    server,
    reporter,
    poll: options.poll ?? false,
    trace,
    cacheFolder,
    showsTraffic: options.traffic ?? false,
  });
  const failures = new Failures(reporter);
  server.errors.on('failure', ({ what, error }) => failures.tell(what, error));
  const closeAll = async () => {
    const stopped = running.stopPrograms();
    await running.writeKept();
    await server.keepAnswers();
    await Promise.all([server.close(), running.close(), stopped]);
    tracing?.close();
  };
  closeOnSignals(closeAll);
  // However it ends, nothing is left behind.
  process.on('exit', () => running.killPrograms());
  goOnAfterErrors((error) => failures.tell('something that nothing waited for', error));
  const report = {
    ...listeningReport(version, settings, server),
    ...(options.qr ? { code: await codeFor(server.url, settings.listen.host) } : {}),
    ...(settings.file ? { settingsFile: project.paths.idOf(settings.file) } : {}),
  };
  certificate.keepFresh((fresh) => server.renew(fresh));
  reporter.tell({ event: 'listening', report });
  for (const text of notes) reporter.tell({ event: 'note', text });
  const programs = running.startPrograms();
  programs.catch((error: unknown) => failures.tell('starting what runs alongside', error));
  // A process that ends by itself would leave behind what runs alongside.
  const run = settings.run.length > 0 ? undefined : withPlainSignals;
  running.begin(() => effectiveSettings(folder, line, 'development', run));
  const progress = watchProgress(project, reporter);
  try {
    await project.opened();
  } catch (error) {
    // Never half alive: a page that can't be made for a reason of ours isn't answered at all.
    await closeAll();
    throw error;
  }
  clearInterval(progress);
  const ms = performance.now() - from;
  const beforeWatching = trace.now();
  await project.watch();
  keepForNextStart(project, server, failures);
  trace.overlapping('start', 'watch', beforeWatching, {}, lanes.main);
  const pageNotes = [...project.pages.values()].flatMap((shown) => shown.notes);
  reporter.tell({ event: 'ready', report: { ...report, notes: pageNotes, modules: project.graph.size, ms } });
  running.opened();
  running.checkTypes();
  if (!options.json && !options.quiet && process.stdout.isTTY)
    listenForKeys(
      {
        open: () => void openBrowser(server.url, reporter),
        reload: () => running.reloadPages(),
        state: () => ({ problems: running.problems, pages: server.live.pages }),
        toggleTraffic: () => running.toggleTraffic(),
        startAnew: () => running.startAnew(),
        install: (packages) => void installMissing(settings.root, packages, reporter),
        quit: () => void process.kill(process.pid, 'SIGTERM'),
      },
      reporter,
    );
  if (options.open) await programs.catch(() => {});
  if (options.open) await openBrowser(server.url, reporter);
}
