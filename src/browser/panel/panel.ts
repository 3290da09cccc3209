import type { CodeFrameLine } from '../../core/problem/code-frame.js';
import type { Problem } from '../../core/problem/problem.js';

const css = `
:host { all: initial !important; display: block !important; }
section { position: fixed; inset: auto 0 0 0; z-index: 2147483647; max-height: 70vh; overflow: auto; box-sizing: border-box;
  background: #f7f4ec; color: #22262a; border-top: 6px solid #d9482b; box-shadow: 0 -12px 40px rgb(34 38 42 / .35);
  font: 15px/1.5 system-ui, sans-serif; padding: 18px 28px 24px; }
header { display: flex; align-items: baseline; gap: 12px; margin-bottom: 4px; }
h1 { font-size: 15px; margin: 0; color: #d9482b; letter-spacing: .02em; }
header p { margin: 0; flex: 1; color: #5b625e; font-size: 13px; }
button { font: inherit; font-size: 13px; color: #1f5d3a; background: none; border: 1px solid #1f5d3a; border-radius: 4px; padding: 2px 12px; cursor: pointer; }
button:hover, button:focus-visible { background: #1f5d3a; color: #f7f4ec; outline: none; }
article { padding: 12px 0 4px; border-top: 1px solid #ddd6c4; }
article:first-of-type { border-top: 0; }
h2 { font-size: 18px; line-height: 1.35; margin: 0 0 2px; font-weight: 650; }
.place { font: 13px/1.6 ui-monospace, monospace; margin: 0; }
a { color: #1f5d3a; text-underline-offset: 3px; }
a:focus-visible, pre:focus-visible { outline: 2px solid #1f5d3a; outline-offset: 2px; }
pre { background: #fff; border-left: 4px solid #1f5d3a; margin: 10px 0; padding: 10px 14px; overflow-x: auto; font: 13px/1.6 ui-monospace, monospace; border-radius: 0 4px 4px 0; }
pre .line { display: block; min-width: max-content; }
pre .number { color: #9a9484; display: inline-block; min-width: 3.5ch; margin-right: 1.5ch; text-align: right; user-select: none; }
pre .hit { background: #fbe6df; }
mark { background: none; color: inherit; text-decoration: underline wavy #d9482b; text-underline-offset: 4px; font-weight: 700; }
.hint { margin: 0 0 6px; }
.chain { margin: 0 0 6px; color: #5b625e; font-size: 13px; }
`;

let host: HTMLElement | undefined;

/** The URL that opens a place in the user's editor: `line` and `column` count from 1. */
export type EditorUrl = (file: string, line: number, column: number) => string;

/** Shows problems at the bottom of the page, in a shadow root that neither touches the page's styles nor is touched by them. */
export function showPanel(problems: readonly Problem[], editorUrl: EditorUrl): void {
  hidePanel();
  host = document.createElement('spark-panel');
  const shadow = host.attachShadow({ mode: 'open' });
  // A constructed sheet is allowed where a security policy forbids style elements.
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(css);
  shadow.adoptedStyleSheets = [sheet];
  shadow.append(panelOf(problems, editorUrl));
  document.documentElement.append(host);
  addEventListener('keydown', panelOnKeydown);
}

/** Takes the panel away. */
export function hidePanel(): void {
  host?.remove();
  host = undefined;
  removeEventListener('keydown', panelOnKeydown);
}

function panelOf(problems: readonly Problem[], editorUrl: EditorUrl): HTMLElement {
  // A region and not a dialog: the page stays usable, and the focus stays where the user has it.
  const section = element('section', { role: 'region', 'aria-labelledby': 'title' });
  const close = element('button', { type: 'button' }, 'Hide (Esc)');
  close.addEventListener('click', hidePanel);
  const count = problems.length === 1 ? 'One problem' : `${problems.length} problems`;
  section.append(
    element(
      'header',
      { role: 'alert' },
      element('h1', { id: 'title' }, count),
      element('p', {}, 'The page goes on as soon as this is solved.'),
      close,
    ),
    ...problems.map((problem) => articleOf(problem, editorUrl)),
  );
  return section;
}

function articleOf(problem: Problem, editorUrl: EditorUrl): HTMLElement {
  const { file, position, frame, hint, code, chain = [] } = problem;
  const article = element('article', {}, element('h2', {}, problem.message));
  if (file) {
    const { line, column } = position ?? { line: 1, column: 0 };
    const place = position ? `${file}:${line}:${column + 1}` : file;
    article.append(element('p', { class: 'place' }, link(place, editorUrl(file, line, column + 1))));
  }
  if (frame) article.append(element('pre', { tabindex: '0', 'aria-label': 'The source around it' }, ...frame.map(frameLine)));
  if (hint) article.append(element('p', { class: 'hint' }, hint));
  if (code === 'run-error') article.append(...chain.map((row) => stackRow(row, editorUrl)));
  else if (chain.length > 1) article.append(element('p', { class: 'chain' }, `From the page: ${chain.join(' → ')}`));
  return article;
}

/** A row of a stack, such as `hold src/hold.ts:2:24`. */
function stackRow(row: string, editorUrl: EditorUrl): HTMLElement {
  const [, name = '', place = '', file = '', line = '', column = ''] = /^(.*?) ?((\S+):(\d+):(\d+))$/.exec(row) ?? [];
  if (!file) return element('p', { class: 'chain' }, `at ${row}`);
  return element('p', { class: 'chain' }, `at ${name} `, link(place, editorUrl(file, Number(line), Number(column))));
}

/** The server answers with nothing to show, so the page stays. */
function link(text: string, url: string): HTMLElement {
  return element('a', { href: url, title: 'Open in your editor' }, text);
}

function frameLine({ line, text, mark }: CodeFrameLine): HTMLElement {
  const number = element('span', { class: 'number' }, String(line));
  if (!mark) return element('span', { class: 'line' }, number, `${text}\n`);
  const marked = element('mark', {}, text.slice(mark.from, mark.to) || ' ');
  return element('span', { class: 'line hit' }, number, text.slice(0, mark.from), marked, `${text.slice(mark.to)}\n`);
}

function element(name: string, attributes: Record<string, string>, ...children: (Node | string)[]): HTMLElement {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  made.append(...children);
  return made;
}

function panelOnKeydown(event: KeyboardEvent): void {
  if (event.key === 'Escape') hidePanel();
}
