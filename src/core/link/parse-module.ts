import type { Comment, Program } from 'estree';
import { parseModule as parse } from 'meriyah';
import { parseSync } from 'oxc-parser';

/** Characters of one text that are much. */
const large = 500_000;

export interface ParsedModule {
  tree: Program;
  /** With `start` and `end`, as the nodes have them. */
  comments: readonly Comment[];
}

/**
 * Reads a module's text, which a translator has made or checked, as ESTree. `isMuch`: there is much text to read all in all. Then a parser
 * that makes the tree itself takes half the time of one that writes it down to be read here; for little it has to warm up first. Both
 * make the same trees, and what the one doesn't understand is the other's.
 *
 * @throws SyntaxError where it can't be read at all.
 */
export function parseModule(text: string, isMuch = text.length > large): ParsedModule {
  return (isMuch ? parsedHere(text) : undefined) ?? parsedNatively(text);
}

function parsedHere(text: string): ParsedModule | undefined {
  const comments: Comment[] = [];
  try {
    const tree = parse(text, {
      next: true,
      ranges: { start: true, end: true },
      validateRegex: false,
      onComment: (type, value, start, end) => {
        const kind = commentTypes[type];
        if (kind) comments.push({ type: kind, value, start, end } as Comment);
      },
    });
    return { tree: tree as unknown as Program, comments };
  } catch {
    return undefined;
  }
}

const commentTypes: Readonly<Record<string, Comment['type'] | undefined>> = { SingleLine: 'Line', MultiLine: 'Block' };

function parsedNatively(text: string): ParsedModule {
  const { program, comments, errors } = parseSync('module.js', text, { lang: 'js', sourceType: 'module', preserveParens: false });
  const error = errors.find(({ severity }) => severity === 'Error');
  // A build must not leave out what it doesn't understand.
  if (error && program.body.length === 0) throw new SyntaxError(error.message);
  return { tree: program as unknown as Program, comments: comments as unknown as Comment[] };
}
