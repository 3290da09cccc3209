import { existsSync } from 'node:fs';
import type Picomatch from 'picomatch';
import { lazily } from '../core/lazily.js';
import type { Problem } from '../core/problem/problem.js';
import { VineError } from '../core/problem/problem.js';
import { installCommandFor } from '../core/resolve/explain-failure.js';
import type { Trace } from '../core/trace.js';
import { forgetKept } from '../project/kept/disk-cache.js';
import type { Project } from '../project/project.js';
import { RunAll } from '../run/run-all.js';
import type { VineServer } from '../server/server.js';
import type { EffectiveSettings } from '../settings/effective.js';
import { findCompiler, TypeChecker } from '../types/type-checker.js';
import { UpdateGarbage } from './collect-garbage.js';
import { componentFiles, pageIds, projectOf, servedOf } from './compose.js';
import { colours } from './report/colours.js';
import type { Reporter } from './report/reporter.js';
import { UpdateReports } from './report/update-reports.js';
import { textsOf } from './texts-of.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

export interface RunningOptions {
  settings: EffectiveSettings;
  project: Project;
  server: VineServer;
  reporter: Reporter;
  poll: boolean;
  trace: Trace;
  cacheFolder: string | undefined;
  showsTraffic: boolean;
}

/** Components are looked at anew this long after the last change of one. */
const componentsPatienceMs = 150;

/** A server at work: tells the reporter what happens, and starts over in place when the settings change. */
export class Running {
  readonly #options: RunningOptions;
  readonly #reports: UpdateReports;
  readonly #garbage = new UpdateGarbage();
  #settings: EffectiveSettings;
  /** What runs alongside. */
  #runs: RunAll;
  #project: Project;
  #read: () => Promise<EffectiveSettings> = async () => this.#settings;
  #queue: Promise<void> = Promise.resolve();
  /** What the settings files held before they were read last; a project that was begun just then is told of them once more. */
  #settingsTexts: string | undefined;
  /** Projects of earlier settings write what they have and stop. */
  #closing: Promise<unknown> = Promise.resolve();
  #types: TypeChecker | undefined;
  #showsTraffic: boolean;
  /** What is wrong with the settings file, while the last good settings stay in force. */
  #componentsTimer: NodeJS.Timeout | undefined;
  readonly #toldVersions = new Set<string>();
  #hasBadSettings = false;

  constructor(options: RunningOptions) {
    this.#options = options;
    this.#settings = options.settings;
    this.#project = options.project;
    this.#showsTraffic = options.showsTraffic;
    this.#runs = this.#runsOf(options.settings);
    this.#reports = new UpdateReports(options.server.live, options.reporter, options.trace);
  }

  /** Begins to report. `read` gives the settings as they are now. */
  begin(read: () => Promise<EffectiveSettings>): void {
    const { server, reporter } = this.#options;
    this.#read = read;
    this.#follow(this.#project, read);
    server.errors.on('editor', (problem) => reporter.tell({ event: 'problem', problem }));
    server.traffic.on('backend', (change) => reporter.tell({ event: 'backend', change }));
    server.traffic.on('exchange', (report) => {
      if (this.#showsTraffic) reporter.tell({ event: 'exchange', report });
    });
    server.errors.on('warning', (warning) => reporter.tell({ event: 'warning', warning }));
    server.errors.on('printed', (told) => reporter.tell({ event: 'console', ...told }));
    server.errors.on('note', (text) => reporter.tell({ event: 'note', text }));
    server.live.on('joined', (page) => reporter.tell({ event: 'joined', page }));
    server.live.on('left', (page) => reporter.tell({ event: 'left', page }));
    server.errors.on('error', ({ from, problem }) => {
      if (this.#settings.pageErrors) reporter.tell({ event: 'error', from, problem });
    });
  }

  /** Everything was read for the first time: tells what is wrong with it. */
  opened(): void {
    const { problems } = this.#project;
    if (problems.length > 0) this.#options.reporter.tell({ event: 'problems', problems, isStart: true });
    this.#warnOfVersions().catch((error: Error) => this.#failed(error));
  }

  /** What will fail for its version is told before it does, once. */
  async #warnOfVersions(): Promise<void> {
    const { versionWarnings } = await import('../check/versions.js');
    const { root } = this.#project.options;
    for (const warning of versionWarnings(root, installCommandFor(root, existsSync))) {
      if (this.#toldVersions.has(warning.message)) continue;
      this.#toldVersions.add(warning.message);
      this.#options.reporter.tell({ event: 'warning', warning });
    }
  }

  /** Writes what the next start can use; the quickest of what is to be done in the end. */
  async writeKept(): Promise<void> {
    await this.#project.writeKept();
  }

  async close(): Promise<void> {
    clearTimeout(this.#componentsTimer);
    await this.#queue;
    await Promise.all([this.#closing, this.#project.close()]);
  }

  #follow(project: Project, read: () => Promise<EffectiveSettings>): void {
    const { reporter } = this.#options;
    project.on('problems', (problems) => reporter.tell({ event: 'problems', problems, isStart: !project.hasBeenGood }));
    project.on('failure', (error) => this.#failed(error));
    project.on('update', () => this.#garbage.updated());
    project.on('settings', ({ since }) => {
      this.#queue = this.#queue.then(() => this.#settingsChanged(read, since)).catch((error: Error) => this.#failed(error));
    });
    project.on('pages', ({ since }) => {
      this.#queue = this.#queue.then(() => this.#settingsChanged(read, since, true)).catch((error: Error) => this.#failed(error));
    });
    project.on('noticed', ({ since, files }) => {
      this.#noticed(files, since).catch((error: Error) => this.#failed(error));
    });
    project.on('solved', ({ since }) => reporter.tell({ event: 'solved', ms: performance.now() - since }));
    this.#reports.follow(project);
  }

  /** Reads the settings anew. A mistake in them keeps the last good ones in force. */
  async #settingsChanged(read: () => Promise<EffectiveSettings>, since: number, mayBePages = false): Promise<void> {
    const { server, reporter, cacheFolder } = this.#options;
    const texts = textsOf([...this.#project.settingsFiles]);
    if (texts === this.#settingsTexts && !this.#hasBadSettings && !mayBePages) return;
    this.#settingsTexts = texts;
    let settings: EffectiveSettings;
    try {
      settings = await read();
    } catch (error) {
      if (!(error instanceof VineError)) throw error;
      this.#hasBadSettings = true;
      for (const file of error.madeOf) this.#project.settingsFiles.add(file);
      reporter.tell({ event: 'problems', problems: error.problems, isStart: false });
      server.showSettingsProblems(error.problems);
      return;
    }
    if (!this.#hasBadSettings && isSame(settings, this.#settings, mayBePages)) return;
    this.#hasBadSettings = false;
    server.showSettingsProblems([]);
    await this.#changePrograms(settings);
    const needsRestart = (['host', 'port', 'exact', 'https'] as const).filter(
      (key) => JSON.stringify(settings.listen[key]) !== JSON.stringify(this.#settings.listen[key]),
    );
    if (isSame(withoutPages(settings), withoutPages(this.#settings), mayBePages)) {
      const before = this.#settings;
      this.#settings = settings;
      if (
        !isSame(
          { ...before, routes: [], generated: {}, run: [] },
          { ...settings, routes: [], generated: {}, run: [] },
          mayBePages,
        )
      )
        server.forwardBy(settings.forward);
      await this.#changePages(before, settings, mayBePages);
      if (!mayBePages) reporter.tell({ event: 'settings', ms: performance.now() - since, needsRestart: [] });
      return;
    }
    await this.#replace(settings, cacheFolder, 'the settings changed');
    this.checkTypes();
    const restart = needsRestart.map((key) => `listen.${key}`);
    reporter.tell({ event: 'settings', ms: performance.now() - since, needsRestart: restart });
  }

  /** Another project takes the place of the one that was read. */
  async #replace(settings: EffectiveSettings, cacheFolder: string | undefined, reason: string): Promise<void> {
    const { server, reporter, poll, trace } = this.#options;
    const old = this.#project;
    const project = projectOf(settings, { poll, revision: old.revision + 1, cacheFolder, trace });
    project.on('warning', (warning) => reporter.tell({ event: 'warning', warning }));
    project.on('note', (text) => reporter.tell({ event: 'note', text }));
    await project.open();
    // From here on only the new project tells: what the old one still finds out, the new one has read, or will tell itself.
    old.removeAllListeners();
    project.revision = Math.max(project.revision, old.revision + 1);
    this.#project = project;
    this.#settings = settings;
    server.use(servedOf(settings, project), reason);
    this.#follow(project, this.#read);
    this.opened();
    // It may be the old project that is telling us: it must not wait for itself.
    this.#closing = Promise.all([this.#closing, old.close()]);
  }

  /** Other programs run alongside from now on. */
  async #changePrograms(settings: EffectiveSettings): Promise<void> {
    if (JSON.stringify(settings.run) === JSON.stringify(this.#settings.run)) return;
    await this.#runs.stop();
    this.#runs = this.#runsOf(settings);
    void this.#runs.start().catch((error: Error) => this.#failed(error));
  }

  /** Files changed of which a backend is made, or makes its pages: it starts over, and then pages that show them reload. */
  async #noticed(files: readonly string[], since: number): Promise<void> {
    const { server, reporter } = this.#options;
    this.#types?.changed();
    if (this.#settings.ofComponents) {
      const isComponent = picomatch()(componentFiles);
      if (files.some((file) => isComponent(file))) this.#lookAtComponents();
    }
    await this.#runs.changed(files);
    const { watch } = this.#settings.embed;
    if (watch.length === 0) return;
    const isTemplate = picomatch()([...watch], { dot: true });
    const templates = files.filter((file) => isTemplate(file));
    if (templates.length === 0) return;
    const pages = await server.templatesChanged(templates);
    reporter.tell({ event: 'templates', files: templates, pages, ms: performance.now() - since });
  }

  /** Components may have come or gone, or have other props now: a while after a save, which is to show first. */
  #lookAtComponents(): void {
    clearTimeout(this.#componentsTimer);
    this.#componentsTimer = setTimeout(() => {
      this.#queue = this.#queue.then(() => this.#componentsChanged()).catch((error: Error) => this.#failed(error));
    }, componentsPatienceMs);
  }

  async #componentsChanged(): Promise<void> {
    let routes: EffectiveSettings['routes'];
    let generated: EffectiveSettings['generated'];
    try {
      ({ routes, generated } = await this.#read());
    } catch {
      return; // what is wrong with a component or the settings is told where they are used
    }
    const before = this.#settings;
    this.#settings = { ...before, routes, generated };
    await this.#changePages(before, this.#settings, pageIds(before).join() !== pageIds(this.#settings).join());
  }

  /** Begins to check types where the settings say so, or ends it. */
  checkTypes(): void {
    const { reporter, server } = this.#options;
    const { root, types } = this.#settings;
    if (types === (this.#types !== undefined)) return;
    if (!types) {
      void this.#types!.stop();
      this.#types = undefined;
      return server.showTypeProblems([]);
    }
    const compiler = findCompiler(root, installCommandFor(root, existsSync));
    if (!('program' in compiler)) return reporter.tell({ event: 'problem', problem: compiler });
    let last: string | undefined;
    this.#types = new TypeChecker(root, (problems, ms) => {
      const told = JSON.stringify(problems);
      // The first turn says that it's right; later ones only what is new.
      if (told === last) return;
      last = told;
      reporter.tell({ event: 'types', problems, ms });
      server.showTypeProblems(problems);
    });
    this.#types.start(compiler);
  }

  /** Shows forwarded requests from now on, or no longer. Returns which. */
  toggleTraffic(): boolean {
    this.#showsTraffic = !this.#showsTraffic;
    return this.#showsTraffic;
  }

  /** What is wrong now. */
  get problems(): readonly Problem[] {
    return this.#project.problems;
  }

  /** Lets every page reload. */
  reloadPages(): void {
    this.#project.reloadPages('the terminal asked for it').catch((error: Error) => this.#failed(error));
  }

  /** Reads everything anew, with nothing of what was kept. */
  startAnew(): void {
    const since = performance.now();
    this.#queue = this.#queue
      .then(() => this.#replace(this.#settings, undefined, 'everything was read anew'))
      .then(async () => {
        const { cacheFolder } = this.#options;
        // What is kept may be what is doubted: the next start finds nothing of it.
        await this.#closing;
        if (cacheFolder !== undefined) forgetKept(cacheFolder);
        this.#options.reporter.tell({
          event: 'note',
          text: `everything was read anew in ${Math.round(performance.now() - since)} ms`,
        });
      })
      .catch((error: Error) => this.#failed(error));
  }

  /** Starts what runs alongside. Settles when all of it is ready, or won't be soon. */
  async startPrograms(): Promise<void> {
    await this.#runs.start();
  }

  /** Ends what runs alongside; `killPrograms` doesn't wait. */
  async stopPrograms(): Promise<void> {
    await Promise.all([this.#runs.stop(), this.#types?.stop()]);
  }

  killPrograms(): void {
    this.#runs.kill();
    this.#types?.kill();
  }

  #runsOf({ run, root }: EffectiveSettings): RunAll {
    const { reporter, server } = this.#options;
    const ready = new Set<string>();
    return new RunAll(run, {
      root,
      env: { FORCE_COLOR: colours.isColorSupported ? '1' : '0' },
      tell: (event) => {
        reporter.tell(event);
        if (event.event !== 'command' || event.state !== 'ready') return;
        // It may be what a rule leads to.
        server.forwarder.watch();
        if (ready.has(event.name) && !event.isOther) server.live.say(`${event.name} is back`);
        ready.add(event.name);
      },
    });
  }

  /** Pages came or went, or are made of something else: everything else goes on. */
  async #changePages(before: EffectiveSettings, settings: EffectiveSettings, isTold: boolean): Promise<void> {
    if (JSON.stringify([before.routes, before.generated]) === JSON.stringify([settings.routes, settings.generated])) return;
    const { server, reporter } = this.#options;
    const [old, now] = [pageIds(before), pageIds(settings)];
    await this.#project.changePages(now, settings.generated);
    server.routeBy(settings.routes);
    const added = now.filter((id) => !old.includes(id));
    const gone = old.filter((id) => !now.includes(id));
    if (isTold) reporter.tell({ event: 'pages', routes: settings.routes, added, gone });
  }

  #failed(error: Error): void {
    const message = `Vine Spark failed on a change: ${error.message}`;
    const problem = { code: 'internal-error', severity: 'error', message, hint: error.stack ?? '' } as const;
    this.#options.reporter.tell({ event: 'problem', problem });
  }
}

/** Functions can't be compared: where the file that holds them was saved, they count as changed. */
function isSame(a: EffectiveSettings, b: EffectiveSettings, isFileSame = false): boolean {
  let hasFunctions = false;
  const textOf = (settings: EffectiveSettings) =>
    JSON.stringify(settings, (_, value: unknown) => {
      if (typeof value === 'function') hasFunctions = true;
      return value instanceof RegExp ? String(value) : value;
    });
  return textOf(a) === textOf(b) && (isFileSame || !hasFunctions);
}

function withoutPages(settings: EffectiveSettings): EffectiveSettings {
  return { ...settings, routes: [], generated: {}, forward: [], run: [] };
}
