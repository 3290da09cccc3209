import type { ConsoleMessage } from '../../core/live/messages.js';
import { asked, unshown } from '../runtime/page-values.js';
import { pieceTags } from '../runtime/runtime.js';

const levels = ['debug', 'log', 'info', 'warn', 'error'] as const;
const longestText = 1000;
const deepest = 3;
const mostMembers = 20;

/** Tells what the page prints; its console shows the same as ever. */
export function watchConsole(tell: (message: ConsoleMessage) => void): void {
  for (const level of levels) {
    const plain = console[level];
    console[level] = (...values: unknown[]) => {
      plain.apply(console, values);
      // What we print ourselves the terminal knows.
      if (typeof values[0] === 'string' && values[0].startsWith('Vine Spark:')) return;
      tell({
        type: 'console',
        level,
        text: shownLine(values).slice(0, longestText),
        stack: new Error().stack ?? '',
        pieces: pieceTags,
      });
    };
  }
}

/** The same, whatever the page's values do when they are looked at: to print them never fails. */
function shownLine(values: readonly unknown[]): string {
  const plain = values.map((value) => (typeof value === 'string' ? value : `[${unshown}]`)).join(' ');
  return asked(() => formattedLine(values), plain);
}

/** Values as a console shows them (Console Standard, 2.2.1), in one line. */
function formattedLine(values: readonly unknown[]): string {
  const [first, ...rest] = values;
  if (typeof first !== 'string' || !first.includes('%')) return values.map((value) => shownValue(value, 0)).join(' ');
  const text = first.replace(/%([sdifoOc%])/g, (whole, kind: string) => {
    if (kind === '%') return '%';
    if (rest.length === 0) return whole;
    const value = rest.shift();
    if (kind === 'c') return '';
    if (kind === 'd' || kind === 'i') return String(Number.parseInt(String(value), 10));
    return kind === 'f' ? String(Number.parseFloat(String(value))) : kind === 's' ? String(value) : shownValue(value, 0);
  });
  return [text, ...rest.map((value) => shownValue(value, 0))].join(' ');
}

function shownValue(value: unknown, depth: number): string {
  if (typeof value === 'string') return depth === 0 ? value : JSON.stringify(value);
  if (value === null || (typeof value !== 'object' && typeof value !== 'function'))
    return typeof value === 'bigint' ? `${value}n` : String(value);
  try {
    if (typeof value === 'function') return `function ${value.name}`.trim();
    if (value instanceof Error) return `${value.name}: ${value.message}`;
    if (value instanceof Element) return `<${value.tagName.toLowerCase()}>`;
    if (depth === deepest) return Array.isArray(value) ? '[…]' : '{…}';
    const shown = (member: unknown) => shownValue(member, depth + 1);
    if (Array.isArray(value)) return `[${listedMembers(value, shown)}]`;
    if (value instanceof Map) return `Map { ${listedMembers(value, ([key, member]) => `${shown(key)} => ${shown(member)}`)} }`;
    if (value instanceof Set) return `Set { ${listedMembers(value, shown)} }`;
    if (value instanceof Date || value instanceof RegExp) return String(value);
    // As in a console, what a getter gives is only made when somebody asks for it.
    const members = listedMembers(Object.keys(value), (key) => {
      const member = Object.getOwnPropertyDescriptor(value, key);
      return `${key}: ${member && 'value' in member ? shown(member.value) : '(…)'}`;
    });
    const name = (Object.getPrototypeOf(value) as { constructor?: { name?: string } } | null)?.constructor?.name;
    return `${name && name !== 'Object' ? `${name} ` : ''}{ ${members} }`;
  } catch {
    return `[${unshown}]`; // a getter or a proxy of the page's throws
  }
}

/** The first of some members: there may be millions. */
function listedMembers<T>(members: Iterable<T>, shown: (member: T) => string): string {
  const texts: string[] = [];
  for (const member of members) {
    if (texts.length === mostMembers) return `${texts.join(', ')}, …`;
    texts.push(shown(member));
  }
  return texts.join(', ');
}
