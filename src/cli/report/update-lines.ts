import { shownText } from '../../core/text/shown-text.js';
import type { ProjectUpdate } from '../../project/live/update-maker.js';
import { colours as pc } from './colours.js';
import type { PageReport } from './reporter.js';
import { shortList } from './short-text.js';

/** What an update came to: one line where all browsers did the same; else one for each thing that happened. */
export function updateLines(update: ProjectUpdate, reports: readonly PageReport[], silent: number): string[] {
  const { changed, styles, removed, files, saved, gone } = update;
  const names = [...changed, ...styles.map(({ id }) => id), ...files.map(({ path }) => path)];
  const rest = removed.map((id) => `${id} (${gone.includes(id) ? 'gone' : 'no longer used'})`);
  const what = pc.bold(
    shortList(saved.length > 0 ? saved.map((id) => (gone.includes(id) ? `${id} (gone)` : id)) : [...names, ...rest]) ||
      pc.dim('pages'),
  );
  if (reports.length === 0) {
    const isOpen = update.openPages > 0;
    return [
      `${what}  ${pc.dim(silent > 0 ? 'no browser has answered yet' : isOpen ? 'for pages that are held back' : 'no browser is open')}`,
    ];
  }
  return groupReports(reports).map((group) => `${what}  ${groupText(group)}`);
}

function groupReports(reports: readonly PageReport[]): PageReport[][] {
  const groups = new Map<string, PageReport[]>();
  for (const report of reports) {
    const key =
      report.type === 'applied'
        ? `applied ${report.isBroken} ${report.reset.join()} ${report.anew?.join()}`
        : report.reason + report.chain.join();
    groups.set(key, [...(groups.get(key) ?? []), report]);
  }
  return [...groups.values()];
}

function groupText(group: PageReport[]): string {
  const browsers = shortList(group.map(({ from }) => from.browser));
  const [first] = group;
  const slowest = Math.max(...group.map(({ ms }) => ms));
  if (first!.type === 'reloaded') {
    const chain = first!.chain.length > 1 ? ` ${pc.dim(`(${first!.chain.map(shownText).join(' → ')})`)}` : '';
    return `${pc.yellow('reloaded')} ${browsers}: ${shownText(first!.reason)}${chain}`;
  }
  const { ran, styles, files, boundaries, reset, anew = [], isBroken } = first!;
  const how = ran.length > 0 ? 'updated in place' : styles.length > 0 ? 'restyled' : files.length > 0 ? 'replaced' : 'as it was';
  const state = isBroken
    ? pc.yellow(', something failed on the way: state may be lost')
    : reset.length > 0
      ? pc.yellow(`, state starts anew in ${shortList(reset)}`)
      : anew.length > 0
        ? ''
        : ran.length > 0
          ? pc.green(', state kept')
          : '';
  const isElsewhere = boundaries.length > 0 && boundaries.join() !== ran.join();
  const where = isElsewhere
    ? ` ${pc.dim(`at ${boundaries.length === 1 ? shownText(boundaries[0]!) : `${boundaries.length} modules`}`)}`
    : '';
  // Whose variables start anew, where nothing else of the page does.
  const again = !isBroken && reset.length === 0 && anew.length > 0 ? `; ${shortList(anew)} ran again` : '';
  return `${pc.green(how)}${state}${where} in ${browsers} after ${Math.round(slowest)} ms${again}`;
}
