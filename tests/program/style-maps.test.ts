import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { originalPositionFor, sourceContentFor, TraceMap } from '@jridgewell/trace-mapping';
import { Program } from '../support/program.js';
import { Workspace } from '../support/workspace.js';

const css = `/* the quay */
@import './tokens.css';
.board { color: rgb(31 93 58); padding: 2px 4px; }
@media (width > 40em) {
  .board .row:hover { background: url('./mark.svg'); }
}
`;
const scss = `@use 'shades';
$gap: 4px;

.berth {
  padding: $gap;
  &.held { color: shades.$ember; }
  .number { margin: $gap * 2; font-weight: 600; }
}
`;

let workspace: Workspace;
let program: Program;
beforeAll(async () => {
  workspace = Workspace.with({
    'index.html': '<!doctype html><script type="module" src="main.ts"></script>',
    'main.ts': `import './board.css'; import './berth.scss'; import './tide.module.css'; import './slip.module.scss';\n`,
    'board.css': css,
    'tokens.css': ':root { --tide: 3; }\n',
    'mark.svg': '<svg/>',
    'berth.scss': scss,
    '_shades.scss': '$ember: #d9482b;\n',
    'tide.module.css': css.replaceAll('board', 'tide'),
    'slip.module.scss': scss.replaceAll('berth', 'slip'),
  });
  program = await Program.serve(workspace.root);
});
afterAll(async () => {
  await program.stop();
  workspace.dispose();
});

/** Classes and properties of a sheet as it is sent, with what stands at the place in the source that the map gives. */
async function lookUp(file: string): Promise<{ sent: string; source: string; file: string }[]> {
  const url = `${program.url}~spark/style/${file}`;
  const text = await (await fetch(url)).text();
  const mapUrl = new URL(/sourceMappingURL=(\S+)/.exec(text)![1]!, url);
  const map = new TraceMap((await (await fetch(mapUrl)).json()) as never);
  const found: { sent: string; source: string; file: string }[] = [];
  text.split('\n').forEach((row, line) => {
    // Classes at the start of a selector, and names of declarations.
    for (const { index, 0: word } of row.matchAll(/(?<=^\s*)\.[\w-]+|(?<=[{;]\s*|^\s*)[a-z-]+(?=:\s)/g)) {
      const { source, line: at, column } = originalPositionFor(map, { line: line + 1, column: index });
      const content = source ? sourceContentFor(map, source)! : '';
      const rest = source ? content.split('\n')[at! - 1]!.slice(column!) : '';
      found.push({ sent: word, source: rest, file: source ?? '' });
    }
  });
  return found;
}

test.each(['board.css', 'tide.module.css'])('%s: every class and property is mapped to itself', async (file) => {
  const words = await lookUp(file);
  expect(words.length).toBeGreaterThanOrEqual(4);
  for (const { sent, source, file: name } of words) {
    expect(name).toBe(`/${file}`);
    // Classes of modules are renamed: the name that was written comes first.
    expect(source.slice(0, 4)).toBe(sent.slice(0, 4));
  }
});

test.each(['berth.scss', 'slip.module.scss'])(
  '%s: properties are mapped to themselves, selectors to the rule that they come from',
  async (file) => {
    const words = await lookUp(file);
    const properties = words.filter(({ sent }) => !sent.startsWith('.'));
    expect(properties.map(({ sent }) => sent)).toEqual(['padding', 'color', 'margin', 'font-weight']);
    for (const { sent, source } of properties) expect(source.startsWith(sent)).toBe(true);
    const selectors = words.filter(({ sent }) => sent.startsWith('.')).map(({ source }) => source.split(' {')[0]);
    const own = file.split('.')[0];
    expect(selectors).toEqual([`.${own}`, '&.held', '.number']);
  },
);
