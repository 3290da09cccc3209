import { emitKeypressEvents } from 'node:readline';
import type { Problem } from '../core/problem/problem.js';
import { missingPackages } from './report/missing-packages.js';
import type { Reporter } from './report/reporter.js';

/** What single keys do while a server runs. */
export interface KeyActions {
  open(): void;
  reload(): void;
  /** Problems that stand, and the pages that are open, by browser. */
  state(): { problems: readonly Problem[]; pages: readonly { browser: string; page: string }[] };
  /** Returns whether traffic is shown from now on. */
  toggleTraffic(): boolean;
  startAnew(): void;
  /** Installs packages that modules import and that aren't there. */
  install(packages: readonly string[]): void;
  quit(): void;
}

/** Listens for single keys on a terminal, until the process ends. */
export function listenForKeys(actions: KeyActions, reporter: Reporter): void {
  const { stdin } = process;
  if (!stdin.isTTY) return;
  const note = (text: string) => reporter.tell({ event: 'note', text });
  const keys: Record<string, { what: string; run(): void }> = {
    o: { what: 'open the page', run: actions.open },
    r: { what: 'reload all pages', run: actions.reload },
    p: { what: 'problems, and which pages are open', run: () => reporter.tell({ event: 'state', ...actions.state() }) },
    t: {
      what: 'show forwarded requests, or no longer',
      run: () => note(actions.toggleTraffic() ? 'forwarded requests are shown' : 'forwarded requests are no longer shown'),
    },
    n: { what: 'read everything anew', run: actions.startAnew },
    i: {
      what: 'install the packages that are missing',
      run: () => {
        const packages = missingPackages(actions.state().problems);
        if (packages.length === 0) note('no package is missing');
        else actions.install(packages);
      },
    },
    q: { what: 'quit', run: actions.quit },
    '?': { what: 'this list', run: () => reporter.tell({ event: 'keys', keys: listed() }) },
  };
  const listed = () => Object.entries(keys).map(([key, { what }]) => ({ key, what }));
  emitKeypressEvents(stdin);
  stdin.setRawMode(true);
  stdin.resume();
  process.once('exit', () => stdin.setRawMode(false));
  stdin.on('keypress', (text: string | undefined, key: { name?: string; ctrl?: boolean; sequence?: string }) => {
    // Raw keys are no signals any more.
    if (key.ctrl && (key.name === 'c' || key.name === 'd')) return void process.kill(process.pid, 'SIGINT');
    if (key.ctrl && key.name === 'z') {
      stdin.setRawMode(false);
      process.once('SIGCONT', () => stdin.setRawMode(true));
      return void process.kill(process.pid, 'SIGTSTP');
    }
    const pressed = text ?? key.sequence ?? '';
    if (Object.hasOwn(keys, pressed)) keys[pressed]!.run();
    else if (pressed === '\r') process.stdout.write('\n');
  });
  // A terminal that has gone.
  stdin.on('error', () => {});
}
