import { cacheFolderOf, projectOf, servedOf } from '../cli/compose.js';
import { keepForNextStart } from '../cli/keep-for-next-start.js';
import { projectName } from '../cli/project-name.js';
import { Running } from '../cli/running.js';
import { Failures } from '../cli/staying-alive.js';
import { escapeHtml } from '../core/tool-page.js';
import { noTrace } from '../core/trace.js';
import { ownUrl } from '../core/urls.js';
import { VineServer } from '../server/server.js';
import type { EntryTags, FrontEndOptions } from './options.js';
import { reporterFor, settingsReader } from './settings.js';

/** The front end kept alive: read, watched, updated in place. */
export async function liveFrontEnd(options: FrontEndOptions) {
  const from = performance.now();
  const read = settingsReader(options, 'development');
  const settings = await read();
  const reporter = reporterFor(options);
  const cacheFolder = cacheFolderOf(settings.root);
  const project = projectOf(settings, { poll: false, revision: 0, cacheFolder, trace: noTrace });
  project.on('warning', (warning) => reporter.tell({ event: 'warning', warning }));
  project.on('note', (text) => reporter.tell({ event: 'note', text }));
  project.begin();
  const place = { host: 'localhost', port: 0, exact: false };
  const server = new VineServer({ ...servedOf(settings, project), ...place, hot: options.hot ?? true, isInside: true });
  const running = new Running({
    settings,
    project,
    server,
    reporter,
    poll: false,
    trace: noTrace,
    cacheFolder,
    showsTraffic: false,
  });
  const failures = new Failures(reporter);
  server.errors.on('failure', ({ what, error }) => failures.tell(what, error));
  running.begin(read);
  void running.startPrograms();
  // However the user's process ends, nothing is left behind.
  const onExit = () => running.killPrograms();
  process.once('exit', onExit);
  const close = async () => {
    process.off('exit', onExit);
    await running.stopPrograms();
    await running.writeKept();
    await server.keepAnswers();
    await Promise.all([server.close(), running.close()]);
  };
  try {
    await project.opened();
  } catch (error) {
    await close();
    throw error;
  }
  server.forwarder.watch();
  await project.watch();
  keepForNextStart(project, server, failures);
  const report = { project: projectName(settings.root), modules: project.graph.size, ms: performance.now() - from };
  reporter.tell({ event: 'inside', report });
  running.opened();
  running.checkTypes();
  const tags = (entry: string): EntryTags => ({
    styles: `<script src="${ownUrl.plain(settings.base, 'embed.js')}" data-entry="${escapeHtml(entry)}"></script>`,
    scripts: '',
  });
  return {
    handle: server.handle.bind(server),
    upgrade: server.upgrade.bind(server),
    tags,
    close,
  };
}
