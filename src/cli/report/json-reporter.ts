import { shownJson } from '../../core/text/shown-text.js';
import type { ReportEvent, Reporter } from './reporter.js';

/** Events as NDJSON, one object a line with its `event` and the time. */
export function jsonReporter(write: (line: string) => void): Reporter {
  const print = (event: string, fields: object) => write(`${shownJson({ event, at: new Date().toISOString(), ...fields })}\n`);
  return {
    tell(told) {
      print(told.event, fieldsOf(told));
      if (told.event !== 'update') return;
      for (const { from, type, ms, ...rest } of told.reports)
        print(type, { browser: from.browser, number: from.number, page: from.page, ms, ...rest });
    },
  };
}

/** What programs are given of an event. */
function fieldsOf(told: ReportEvent): object {
  switch (told.event) {
    case 'listening':
    case 'ready':
      return told.report;
    case 'inside':
      return told.report;
    case 'update': {
      const { id, changed, removed, styles, files, translations, reload } = told.update;
      const paths = files.map(({ path }) => path);
      return {
        id,
        changed,
        removed,
        styles: styles.map((style) => style.id),
        files: paths,
        translations,
        reload,
        silent: told.silent,
      };
    }
    case 'problems':
      return { problems: told.problems };
    case 'backend':
      return told.change;
    case 'exchange': {
      const { rule, from: _, ...report } = told.report;
      return { rule: rule.label, backend: rule.to.label, ...report };
    }
    case 'console':
      return { ...told, from: undefined, ...told.from };
    case 'joined':
    case 'left':
      return told.page;
    case 'error':
      return { ...told.from, problem: told.problem };
    default:
      return told;
  }
}
