import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openBuilt, openPage } from '../support/browser.js';
import { Program, runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** What translation makes of classes: older decorators, `accessor`, and the names that places give. */

const older = `const told: string[] = [];
function d(tag: unknown): any { told.push('eval ' + tag); return (target: any, key: unknown, at: unknown) => { told.push([tag, typeof target, String(key), typeof at].join(' ')); }; }
@d('class') export class Berth {
  @d(1) static pier = 1; @d(2) moor(@d(3) boat?: unknown) { return boat; } @d(4) static cast() {} @d(5) 'bow line' = 1; @d(6) 42 = () => 1;
  @d(7) ['st' + 'ern'] = 1; @d(8) set draught(_: number) {} constructor(@d(9) public name: string) {} board = this.name; @d(10) static get length() { return 1; }
}
console.log(told.join('; '), Object.keys(new Berth('quay')).join(), new Berth('quay').board);
`;
/** As TypeScript 5.9 has it. */
const olderTells =
  'eval 2; eval 3; 3 object moor number; 2 object moor object; eval 5; 5 object bow line undefined; eval 6; 6 object 42 undefined; ' +
  'eval 7; 7 object stern undefined; eval 8; 8 object draught object; eval 1; 1 function pier undefined; eval 4; 4 function cast object; ' +
  'eval 10; 10 function length object; eval class; eval 9; 9 function undefined number; class function undefined undefined';

const names = `export class Quay {
  hail = () => {}; #hidden = async () => {}; crane = class {}; dock = class { static depth = 1 }; bell = function () {}; static ring = <T,>(x: T) => x;
  '__proto__' = () => 1; 7 = (() => 2) as unknown; loud = (function () {}); self = () => this.hail; own = function named() {}; get hidden() { return this.#hidden.name; }
}
const quay = new Quay() as any;
console.log(['hail', 'crane', 'dock', 'bell', '__proto__', '7', 'loud', 'self', 'own'].map((key) => Object.getOwnPropertyDescriptor(quay, key)!.value.name).join(), quay.hidden, Quay.ring.name, quay.self() === quay.hail);
const early = class { static tells = this.name; static { console.log(this.name); } };
const keyed = class { static ['ke' + 'y']() {} static depth = this.name; }, renamed = class { static ['na' + 'me']() {} static depth = 1; }, field = class { static name = 'field'; };
console.log(early.tells, keyed.depth, typeof renamed.name, field.name);
class Boat { mast = this.keel; constructor(hull = {}, readonly keel = hull ? 2 : 1) {} }
console.log(Object.keys(new Boat()).join(), new Boat().mast, new Boat().keel);
`;
const namesTell =
  'hail,crane,dock,bell,__proto__,7,loud,self,named #hidden ring true|early|early keyed function field|keel,mast undefined 2';

const accessors = `import { Hull } from 'hulls';
export class Mast { accessor height: number = 3; static accessor count = 4; accessor #sail = 2; accessor ['to' + 'p'] = 5; accessor accessor = 6; reef() { return this.#sail++; } }
const mast = new Mast() as any; mast.height++;
console.log(mast.height, Mast.count, mast.reef() + mast.reef(), mast.top, mast.accessor, Object.keys(mast).length, new Hull().planks, 'accessor x');
`;
const accessorsTell = '4 4 5 5 6 0 7 accessor x';

const project = (fields: boolean): Record<string, string> => ({
  'index.html': `<!doctype html><link rel="icon" href="data:,"><script type="module" src="older/older.ts"></script>
    <script type="module" src="names.ts"></script><script type="module" src="accessors.ts"></script>`,
  'older/older.ts': older,
  'older/tsconfig.json': `{ "compilerOptions": { "experimentalDecorators": true, "useDefineForClassFields": ${fields} } }`,
  'names.ts': names,
  'accessors.ts': accessors,
  'node_modules/hulls/package.json': '{ "name": "hulls", "type": "module", "main": "hulls.js" }',
  'node_modules/hulls/hulls.js': 'export class Hull { accessor planks = 7; }\n',
});
const expected = (fields: boolean) => [
  `${olderTells} 42,name,bow line,stern,board ${fields ? 'undefined' : 'quay'}`,
  ...namesTell.split('|'),
  accessorsTell,
];

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

test.each(isLong ? [true, false] : [true])(
  'classes do what TypeScript and the standard say, served and built, with fields defined: %s',
  async (fields) => {
    const workspace = Workspace.with(project(fields));
    const program = await Program.serve(workspace.root);
    const served = await openPage(browser, program.url);
    await served.page.waitForLoadState('load');
    const lines = (told: readonly string[]) => told.filter((line) => !line.startsWith('Vine Spark'));
    expect([lines(served.console), served.errors]).toEqual([expected(fields), []]);
    await program.stop();
    for (const args of isLong
      ? [[], ['--targets', 'chrome 80'], ['--targets', 'chrome 63', '--no-minify']]
      : [['--targets', 'chrome 80']]) {
      const { code, stderr } = await runProgram(workspace.root, ['build', '--no-cache', ...args]);
      expect([code, stderr]).toEqual([0, '']);
      const built = await openBuilt(browser, workspace.path('dist'));
      expect([built.console, built.errors]).toEqual([expected(fields), []]);
      await built.close();
    }
    workspace.dispose();
  },
  60_000,
);
