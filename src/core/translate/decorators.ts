import type { Node, Program } from 'estree';
import { walk } from 'estree-walker';
import { parseModule } from 'meriyah';
import { parseSync } from 'oxc-parser';
import type { ScriptLanguage } from './adapter.js';

/** Characters from which on it's quicker to ask a parser that doesn't know them first. */
const large = 500_000;

/** What a script holds of a proposal that no browser knows: the whole script that such a module is a part of would be refused. */
export interface Proposals {
  /** Where the first decorator begins. */
  decorator?: number;
  /** There is a member with the keyword `accessor`. */
  hasAccessor: boolean;
}

/** Finds decorators and what belongs to them in a script. One that can't be read holds none as far as that is known. */
export function findProposals(text: string, lang: ScriptLanguage): Proposals {
  const found: Proposals = { hasAccessor: false };
  if (!mayHoldDecorator(text) && !mayHoldAccessor(text)) return found;
  if (lang === 'js' && text.length > large && isWithoutProposals(text)) return found;
  const { program } = parseSync(`module.${lang}`, text, { lang, sourceType: 'unambiguous' as 'module', preserveParens: false });
  walk(program as unknown as Program, {
    enter(node: Node) {
      if ((node.type as string) === 'Decorator') found.decorator ??= (node as unknown as { start: number }).start;
      if ((node.type as string) === 'AccessorProperty') found.hasAccessor = true;
    },
  });
  return found;
}

/**
 * Whether a parser reads a module that knows neither decorators nor `accessor`. That takes a fifth of the time in which a tree is made
 * by the other one and searched: seconds for the several megabytes of which packages for editors consist.
 */
function isWithoutProposals(text: string): boolean {
  try {
    parseModule(text, { next: false, validateRegex: false });
    return true;
  } catch {
    return false;
  }
}

/** Comments and strings aside, the text has an `@` in front of a name and a class. Errs towards yes. */
function mayHoldDecorator(text: string): boolean {
  if (!text.includes('@') || !/\bclass\b/.test(text)) return false;
  const code = text.replace(/\/\*[\s\S]*?(?:\*\/|$)|\/\/.*|(["'`])(?:\\[\s\S]|(?!\1)[^\\])*\1/g, '');
  return /@[\w$(]/.test(code);
}

/** The same for a member with the keyword `accessor`. */
function mayHoldAccessor(text: string): boolean {
  return text.includes('accessor') && /\bclass\b/.test(text) && /\baccessor\s*[\p{ID_Start}$_#['"\d]/u.test(text);
}
