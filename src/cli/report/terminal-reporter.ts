import type { Problem } from '../../core/problem/problem.js';
import { shownText } from '../../core/text/shown-text.js';
import type { BackendChange } from '../../forward/backend-states.js';
import type { ExchangeReport } from '../../forward/exchange.js';
import { colours as pc } from './colours.js';
import { missingPackages } from './missing-packages.js';
import { Presence } from './presence.js';
import { type EditorUrl, problemText } from './problem-text.js';
import type { ListeningReport, ReadyReport, ReportEvent, Reporter } from './reporter.js';
import { Screen } from './screen.js';
import { duration, shortList } from './short-text.js';
import { updateLines } from './update-lines.js';

/** In front of problems. */
const indentation = '    ';
/** Columns of the values at the start. */
const valueWidth = 39;

/** Lines for people: what stands after the start, then one line a save. `editorUrl` makes links of places. */
export function terminalReporter(
  write: (text: string) => void,
  editorUrl?: EditorUrl,
  { isTerminal = false, width = () => 80 }: { isTerminal?: boolean; width?(): number } = {},
): Reporter {
  const screen = new Screen(write, isTerminal);
  const line = (text: string) => screen.line(text);
  /** What was explained already. */
  const explained = new Set<string>();
  /** What happens while the rows of the start are not complete stands below them. */
  let early: string[] | undefined;
  /** Programs alongside that are not ready yet, and backends that are expected to come with them. */
  const starting = new Set<string>();
  const expected = new Set<string>();
  /** Errors that were shown with their places. */
  const thrown = new Set<string>();
  const presence = new Presence((text) => event(pc.dim(text)));
  /** What is known of backends. */
  const states = new Map<string, BackendChange>();
  const told = (text: string) => {
    if (early) early.push(text);
    else line(text);
  };
  const event = (text: string) => {
    const whole = `  ${pc.dim(clock())}  ${text}`;
    if (early) early.push(whole);
    else screen.folded(text, whole);
  };
  const updated = ({ update, reports, silent }: ReportEvent & { event: 'update' }) => {
    for (const text of updateLines(update, reports, silent)) event(text);
    for (const note of reports.flatMap((report) => (report.type === 'applied' ? report.notes : []))) {
      if (!explained.has(note)) event(pc.yellow(shownText(note)));
      explained.add(note);
    }
  };
  const columns = () => (isTerminal ? (width() || 80) - indentation.length : undefined);
  const problem = (what: Problem) => `\n${indent(problemText(what, editorUrl, columns()))}\n`;
  const tell = (what: ReportEvent): void => {
    switch (what.event) {
      case 'listening':
        for (const text of [...headRows(what.report), ...addressRows(what.report)]) line(text);
        early = [];
        return;
      case 'ready': {
        for (const text of readyRows(what.report, states, starting.size > 0)) line(text);
        if (starting.size > 0) for (const [backend, { isUp }] of states) if (!isUp) expected.add(backend);
        line('');
        const waiting = early ?? [];
        early = undefined;
        for (const text of waiting) line(text);
        return;
      }
      case 'inside': {
        const { project, modules, ms } = what.report;
        return event(`${pc.bold(shownText(project))}  ${modules} module${modules === 1 ? '' : 's'} read in ${duration(ms)}`);
      }
      case 'update':
        return updated(what);
      case 'problems': {
        const count = what.problems.length === 1 ? 'a problem' : `${what.problems.length} problems`;
        event(pc.red(`${count}; ${what.isStart ? 'the page starts when this is solved' : 'the page keeps the last good build'}`));
        for (const found of what.problems) line(problem(found));
        if (process.stdin.isTTY && process.stdout.isTTY && missingPackages(what.problems).length > 0)
          line(`  ${pc.bold('i')} ${pc.dim(`installs ${missingPackages(what.problems).join(', ')}`)}\n`);
        return;
      }
      case 'problem':
        return line(problem(what.problem));
      case 'warning':
        return told(problem(what.warning));
      case 'note':
        return event(pc.yellow(shownText(what.text)));
      case 'solved':
        return event(pc.green('solved'));
      case 'settings':
        event(`${pc.green('the settings changed')} and are in force after ${Math.round(what.ms)} ms`);
        if (what.needsRestart.length > 0) event(pc.yellow(`${what.needsRestart.join(', ')} will count from the next start on`));
        return;
      case 'command':
        // Its backend may be found only a moment after it's ready.
        if (what.state === 'starts' || (early && what.state === 'ready')) starting.add(what.name);
        else starting.delete(what.name);
        return event(commandText(what));
      case 'output':
        return told(outputLine(what));
      case 'templates': {
        const browsers = what.pages === 1 ? 'a page reloaded' : `${what.pages} pages reloaded`;
        const text = what.pages === 0 ? pc.dim('no page of the backend is open') : `${browsers} after ${duration(what.ms)}`;
        return event(`${pc.bold(shortList(what.files))}  ${text}`);
      }
      case 'pages': {
        const said = [
          ...what.added.map((id) => `${shownText(id)} is a page now`),
          ...what.gone.map((id) => `${shownText(id)} is gone`),
        ];
        return said.length > 0 ? event(said.join(', ')) : undefined;
      }
      case 'backend':
        states.set(what.change.backend, what.change);
        // The rows of the start say it.
        if (early) return;
        // It was only starting, and not away.
        return event(backendText(expected.delete(what.change.backend) ? { ...what.change, awayMs: undefined } : what.change));
      case 'exchange':
        return event(exchangeText(what.report));
      case 'error': {
        const { from, problem: found } = what;
        const key = JSON.stringify([from.browser, found.message, found.file, found.position]);
        // An interval that throws says the same again and again.
        if (thrown.has(key))
          return screen.folded(
            key,
            `  ${pc.dim(clock())}  ${pc.red('again')}: ${firstLine(found.message)} ${pc.dim(`in ${shownText(from.browser)}`)}`,
          );
        if (thrown.size >= mostKept) thrown.clear();
        thrown.add(key);
        event(pc.red(`an error in ${shownText(from.browser)}`));
        return line(problem(found));
      }
      case 'types': {
        const { problems, ms } = what;
        const text =
          problems.length === 0
            ? pc.green('types are right')
            : pc.red(`${problems.length} problem${problems.length === 1 ? '' : 's'} with types`);
        event(`${text} ${pc.dim(`after ${duration(ms)}`)}`);
        for (const found of problems.slice(0, mostTypeProblems)) line(problem(found));
        if (problems.length > mostTypeProblems) line(`    and ${problems.length - mostTypeProblems} more\n`);
        return;
      }
      case 'console': {
        const colour = what.level === 'error' ? pc.red : what.level === 'warn' ? pc.yellow : (text: string) => text;
        const place = what.place === undefined ? '' : `  ${pc.dim(shownText(what.place))}`;
        return event(`${pc.dim(shownText(what.from.browser))}  ${colour(shownText(what.text))}${place}`);
      }
      case 'progress': {
        const slow = what.reading === undefined ? '' : `  ${shownText(what.reading)}`;
        const text = `  ${what.done} of ${what.known} modules${slow}`;
        return screen.passing(text.length > width() - 1 ? `${text.slice(0, width() - 2)}…` : text);
      }
      case 'keys':
        line('');
        for (const { key, what: does } of what.keys) line(row(`${pc.bold(key)}`, does, 1));
        return line('');
      case 'state': {
        const { problems, pages } = what;
        event(
          problems.length === 0
            ? pc.green('no problem')
            : pc.red(`${problems.length} problem${problems.length === 1 ? '' : 's'}`),
        );
        for (const found of problems) line(problem(found));
        const open = pages.map(({ browser, page }) => `${shownText(page)} in ${shownText(browser)}`);
        for (const text of open.length === 0 ? ['no page is open'] : open) line(`            ${text}`);
        return;
      }
      case 'joined':
        return presence.joined(what.page);
      case 'left':
        return presence.left(what.page);
    }
  };
  return { tell };
}

/** A message's first line. */
function firstLine(message: string): string {
  return shownText(message.split('\n')[0]!);
}

const mostKept = 200;
const mostTypeProblems = 10;

/** What a program that runs alongside does. */
function commandText(what: ReportEvent & { event: 'command' }): string {
  const name = pc.bold(what.name);
  switch (what.state) {
    case 'starts':
      return `${name}  ${what.why === undefined ? `starts ${pc.dim(shownText(what.command))}` : `starts over, since ${shownText(what.why)}`}`;
    case 'ready':
      if (what.isOther)
        return `${name}  ${pc.yellow('may not be what answers')}: ${shownText(what.ready ?? '')} did before it was started`;
      return `${name}  ${pc.green('is ready')} after ${duration(what.ms)}${what.inspect === undefined ? '' : pc.dim(`, debugger at ${what.inspect}`)}`;
    case 'ended': {
      const how = what.signal === null ? `with ${what.code}` : `by ${what.signal}`;
      const next = what.restartMs === undefined ? '' : `; starts again in ${duration(what.restartMs)}`;
      return `${name}  ${what.restartMs === undefined ? 'has ended' : pc.red(`ended ${how}`)}${next}`;
    }
    case 'failed':
      return `${name}  ${pc.red('cannot start')}: ${shownText(what.why)}\n            ${shownText(what.hint)}`;
  }
}

const nameColours = [pc.cyan, pc.magenta, pc.blue, pc.yellow];
const namesSeen: string[] = [];
const nameWidth = 8;

/** A line that a program printed, with its name in front. Its colours stay; nothing else of it can move the cursor. */
function outputLine({ name, text }: ReportEvent & { event: 'output' }): string {
  if (!namesSeen.includes(name)) namesSeen.push(name);
  const colour = nameColours[namesSeen.indexOf(name) % nameColours.length]!;
  const parts = text.split(/(\x1b\[[\d;]*m)/);
  const shown = parts.map((part, index) => (index % 2 === 0 ? shownText(part) : pc.isColorSupported ? part : '')).join('');
  return `  ${colour(name.padEnd(nameWidth))}  ${shown}${pc.isColorSupported && parts.length > 1 ? '\x1b[0m' : ''}`;
}

/** The last rows of the start: where paths go, and how much was read. */
function readyRows(
  { notes, modules, ms, forwards, built }: ReadyReport,
  states: ReadonlyMap<string, BackendChange>,
  areProgramsStarting: boolean,
): string[] {
  return [
    ...forwards.map((forward) => forwardRow(forward, states.get(forward.origin), areProgramsStarting)),
    built
      ? row(`${built.files} file${built.files === 1 ? '' : 's'}`, `of the build in ${shownText(built.folder)}`)
      : row(`${modules} module${modules === 1 ? '' : 's'}`, `read in ${duration(ms)}`),
    ...notes.map((note) => `  ${pc.yellow(shownText(note))}`),
  ];
}

function backendText({
  backend,
  isUp,
  ms,
  awayMs,
  code,
}: Omit<BackendChange, 'awayMs'> & { awayMs?: number | undefined }): string {
  if (!isUp)
    return `${pc.bold(backend)}  ${pc.red('does not answer')} ${pc.dim(shownText(code ?? ''))}; requests to it get a page that says so`;
  const away = awayMs === undefined ? '' : ` after ${duration(awayMs)} away`;
  const time = ms === undefined ? '' : pc.dim(` in ${Math.round(ms)} ms`);
  return `${pc.bold(backend)}  ${pc.green(awayMs === undefined ? 'answers' : 'is back')}${away}${time}`;
}

/** A row of the start: a value, and what it is. */
function row(value: string, what: string, width = value.length): string {
  return `  ${value}${' '.repeat(Math.max(2, valueWidth - width))}${pc.dim(what)}`;
}

function headRows({ project, version }: ListeningReport): string[] {
  const name = shownText(project);
  return ['', row(pc.bold(name), `Vine Spark ${version}`, name.length), ''];
}

/** Addresses, and what stands in force beside the defaults. */
function addressRows({
  url,
  networkUrls = [],
  code,
  wantedPort,
  isForBackend,
  port,
  routes,
  settingsFile,
}: ListeningReport): string[] {
  const rows = [row(pc.bold(pc.green(url)), routes.length === 0 ? 'for pages of a backend' : 'the page', url.length)];
  for (const other of networkUrls) rows.push(row(pc.green(other), 'the same in your network', other.length));
  if (networkUrls.length > 0)
    rows.push(`  ${pc.yellow('Whoever is in your network can see the page, its sources, and what is forwarded.')}`);
  if (code) rows.push('', ...code.lines.map((line) => `  ${line}`), row(shownText(code.url), 'what the code says'), '');
  for (const { pattern, page } of routes)
    if (pattern !== '/' && !pattern.includes('*') && pattern !== `/${page}`)
      rows.push(row(shownText(`${url}${pattern.slice(1)}`), shownText(page)));
  if (settingsFile) rows.push(row(shownText(settingsFile), 'the settings'));
  if (wantedPort !== undefined)
    rows.push(
      row(
        pc.yellow(`${port}`),
        `the port, since ${wantedPort} is ${isForBackend ? 'for a backend' : 'in use'}`,
        `${port}`.length,
      ),
    );
  return rows;
}

/** A rule and whether its backend answers, as far as that is known already. */
function forwardRow(
  { label, origin }: { label: string; origin: string },
  state: BackendChange | undefined,
  areProgramsStarting: boolean,
): string {
  const value = shownText(`${label}  →  ${origin}`);
  if (!state) return row(value, 'is being asked');
  const { isUp, ms, code } = state;
  if (!isUp && areProgramsStarting) return row(value, 'is starting');
  return row(
    value,
    isUp
      ? `answers${ms === undefined ? '' : `, ${Math.round(ms)} ms`}`
      : pc.red(`does not answer (${shownText(code ?? '')}); requests to it get a page that says so`),
  );
}

/** One line for a forwarded request: method, path, status, time until the head and in all, size, rule. */
function exchangeText({ rule, method, target, status, failure, headMs, ms, size, isReplayed }: ExchangeReport): string {
  const color = status === undefined || status >= 500 ? pc.red : status >= 400 ? pc.yellow : pc.green;
  const time =
    headMs !== undefined && ms > 2 * headMs + 50 ? `${Math.round(headMs)} ms, open for ${duration(ms)}` : `${Math.round(ms)} ms`;
  const end = failure === undefined ? '' : ` ${pc.yellow(shownText(failure))}`;
  return `${method.padEnd(7)} ${shownText(target).padEnd(24)}  ${color(status === undefined ? 'no answer' : String(status))} ${time} ${pc.dim(bytes(size))}${end} ${pc.dim(isReplayed ? 'from the recording' : `by ${rule.label}`)}`;
}

function bytes(count: number): string {
  if (count < 1000) return `${count} B`;
  return count < 1_000_000 ? `${(count / 1000).toFixed(1)} kB` : `${(count / 1_000_000).toFixed(1)} MB`;
}

function indent(text: string): string {
  return text.replace(/^/gm, indentation);
}

function clock(): string {
  return new Date().toTimeString().slice(0, 8);
}
