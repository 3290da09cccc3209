import { shownJson } from '../../core/text/shown-text.js';
import type { Reporter } from './reporter.js';

/** Events as NDJSON, one object a line with its `event` and the time. */
export function jsonReporter(write: (line: string) => void): Reporter {
  const print = (event: string, fields: object) => write(`${shownJson({ event, at: new Date().toISOString(), ...fields })}\n`);
  return {
    listening: (report) => print('listening', report),
    ready: (report) => print('ready', report),
    updated(update, reports, silent) {
      const { id, changed, removed, styles, files, translations, reload } = update;
      print('update', {
        id,
        changed,
        removed,
        styles: styles.map((style) => style.id),
        files: files.map(({ path }) => path),
        translations,
        reload,
        silent,
      });
      for (const { from, type, ms, ...rest } of reports)
        print(type, { browser: from.browser, number: from.number, page: from.page, ms, ...rest });
    },
    problems: (problems) => print('problems', { problems }),
    problem: (problem) => print('problem', { problem }),
    warning: (warning) => print('warning', { warning }),
    note: (text) => print('note', { text }),
    solved: (ms) => print('solved', { ms }),
    settings: (ms, needsRestart) => print('settings', { ms, needsRestart }),
    backend: (change) => print('backend', change),
    exchange: ({ rule, from: _, ...report }) => print('exchange', { rule: rule.label, backend: rule.to.label, ...report }),
    joined: (page) => print('joined', page),
    left: (page) => print('left', page),
    failed: (from, problem) => print('error', { ...from, problem }),
  };
}
