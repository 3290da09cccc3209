/** A small program of ES modules: file name -> text. `main.js` runs first, `last.js` after it. */
export type ProgramFiles = Record<string, string>;

/** Numbers that look random and are the same for the same seed (mulberry32). */
export function randomNumbers(seed: number): (below: number) => number {
  let state = seed >>> 0;
  return (below) => {
    state = (state + 0x6d2b79f5) >>> 0;
    let mixed = Math.imul(state ^ (state >>> 15), state | 1);
    mixed ^= mixed + Math.imul(mixed ^ (mixed >>> 7), mixed | 61);
    return ((mixed ^ (mixed >>> 14)) >>> 0) % below;
  };
}

interface Plan {
  name: string;
  /** Names that the module certainly exports itself. */
  exports: string[];
  lines: string[];
}

/** A program with every kind of import and export, cycles, top-level await, live bindings and errors. */
export function randomProgram(seed: number): ProgramFiles {
  const random = randomNumbers(seed);
  const chance = (percent: number) => random(100) < percent;
  const count = 2 + random(5);
  const plans: Plan[] = Array.from({ length: count }, (_, index) =>
    planModule(index === 0 ? 'main' : `m${index}`, index, random),
  );
  plans.forEach((plan, index) => {
    const imports: string[] = [];
    const uses: string[] = [];
    const seen = new Set<string>();
    for (let n = 0; n < 1 + random(3); n++) {
      // Mostly downwards; upwards and to itself makes cycles.
      const target = plans[chance(65) && index + 1 < count ? index + 1 + random(count - index - 1) : random(count)]!;
      if (seen.has(target.name)) continue;
      seen.add(target.name);
      addImport(imports, uses, target, index, random);
    }
    const isAsync = chance(15);
    if (isAsync)
      plan.lines.splice(
        random(plan.lines.length + 1),
        0,
        chance(50) ? 'await 0;' : 'await Promise.resolve(); await null;',
        `log('${plan.name} awaited');`,
      );
    if (chance(4)) plan.lines.push(`throw new RangeError('${plan.name}');`);
    const at = random(plan.lines.length + 1);
    plan.lines.splice(at, 0, ...uses);
    plan.lines.splice(chance(80) ? 0 : random(plan.lines.length + 1), 0, ...imports);
  });
  const last = plans[random(count)]!.name;
  const again = plans[random(count)]!.name;
  return {
    ...Object.fromEntries(plans.map(({ name, lines }) => [`${name}.js`, `${lines.join(chance(10) ? '\r\n' : '\n')}\n`])),
    'last.js': `const seen = [];\nfor (const load of [() => import('./main.js'), () => import('./${last}.js'), () => import('./${again}.js'), () => import('./${last}.js')]) {
  try { const ns = await load(); seen.push(ns); log('loaded', Object.keys(ns).join()); } catch (error) { seen.push(error); log('failed', error.name); }
}\nlog('same', seen[1] === seen[3]);\nended();\n`,
  };
}

function planModule(name: string, index: number, random: (below: number) => number): Plan {
  const pick = <T>(...choices: T[]): T => choices[random(choices.length)]!;
  const exports: string[] = [];
  const lines: string[] = [`log('${name} starts');`];
  const constant = `c${index}`;
  const variable = `v${index}`;
  const called = `f${index}`;
  lines.push(
    pick(
      `export const ${constant} = '${name} constant';`,
      `const ${constant} = '${name} constant';\nexport { ${constant} };`,
      `export const { ${constant}, other${index} = 4 } = { ${constant}: '${name} part' };`,
    ),
  );
  exports.push(constant);
  lines.push(`export ${pick('let', 'var')} ${variable} = ${index};`);
  exports.push(variable);
  const change = pick(
    `${variable}++`,
    `${variable} += 10`,
    `[${variable}] = [${variable} + 100]`,
    `({ x: ${variable} } = { x: ${variable} * 2 + 1 })`,
    `{ for (${variable} of [7, ${index} + 8]); }`,
    `${variable} ??= 5, --${variable}`,
    `{ for ([${variable}] of [[3], [4]]) { log('loop', ${variable}); } }`,
  );
  lines.push(
    `export function ${called}() { ${change}; return ${pick(`${variable}`, `'${called} ' + ${variable}`, `typeof ${constant === '' ? '' : variable}`)}; }`,
  );
  exports.push(called);
  if (random(2)) {
    lines.push(`export class K${index} { static made = log('${name} class') ?? 1; get is() { return ${variable}; } }`);
    exports.push(`K${index}`);
  }
  if (random(3) > 0) {
    lines.push(
      pick(
        `export default function () { return '${name} default'; }`,
        `export default class { static is = '${name}'; }`,
        `export default () => '${name} arrow';`,
        `export default async function named${index}() {}`,
        `export default ${variable};`,
        `export { ${called} as default };`,
      ),
    );
    exports.push('default');
  }
  if (random(4) === 0) {
    lines.push(`export { ${constant} as 'the ${name}', ${variable} as shared };`);
    exports.push('shared');
  }
  lines.push(`log('${name} ends', ${variable});`);
  return { name, exports, lines };
}

function addImport(imports: string[], uses: string[], target: Plan, index: number, random: (below: number) => number): void {
  const from = `'./${target.name}.js'`;
  const guarded = (expression: string) =>
    `try { log('${expression.replaceAll("'", '')}', ${expression}); } catch (error) { log(error.name); }`;
  const name = target.exports[random(target.exports.length)]!;
  const local = `${name === 'default' ? 'd' : name}_${index}_${target.name}`;
  switch (random(8)) {
    case 0:
      imports.push(`import ${from};`);
      break;
    case 1:
      imports.push(`import * as ns_${index}_${target.name} from ${from};`);
      uses.push(`log(Object.keys(ns_${index}_${target.name}).join());`, guarded(`typeof ns_${index}_${target.name}.${name}`));
      uses.push(`try { ns_${index}_${target.name}.${name} = 1; } catch (error) { log(error.name); }`);
      break;
    case 2:
      imports.push(`export * from ${from};`);
      break;
    case 3:
      imports.push(`export { ${name} as passed_${index}_${target.name} } from ${from};`);
      break;
    case 4:
      imports.push(`export * as all_${index}_${target.name} from ${from};`);
      break;
    default:
      imports.push(`import { ${name} as ${local} } from ${from};`);
      uses.push(guarded(`typeof ${local}`), guarded(`typeof ${local} === 'function' ? ${local}.name : ${local}`));
      if (/^f\d/.test(name)) uses.push(guarded(`${local}()`));
      if (random(3) === 0) uses.push(`export { ${local} };`);
      uses.push(`Promise.resolve().then(() => { ${guarded(`typeof ${local}`)} });`);
  }
}
