/**
 * Whether some place of a module's text may assign one of `names`, its own declaration aside: a check of the text alone,
 * which errs towards yes.
 */
export function mayBeAssigned(text: string, names: ReadonlySet<string>): boolean {
  return hasAssignment(text, names) || hasStep(text, names) || hasLoopTarget(text, names);
}

/** `name = …`, `name += …`, `[name] = …`, `({ name } = …)`, `(name) = …`. */
function hasAssignment(text: string, names: ReadonlySet<string>): boolean {
  /** The last line end before `at`, looked for only once. */
  let line = -1;
  let nextLine = text.indexOf('\n');
  for (let at = text.indexOf('='); at !== -1; at = text.indexOf('=', at + 1)) {
    const next = text[at + 1];
    if (next === '>') continue;
    if (next === '=') {
      at += text[at + 2] === '=' ? 2 : 1;
      continue;
    }
    const operator = /(?:[+\-%&|^?]|\*\*?|\/|<<|>>>?|&&|\|\||\?\?)$/.exec(text.slice(Math.max(0, at - 3), at))?.[0] ?? '';
    if (operator === '' && /[=!<>]/.test(text[at - 1] ?? '')) continue;
    if (operator === '/' && text[at - 2] === '*') return true;
    const end = lastBefore(text, at - operator.length);
    // A comment may stand between the name and the line of the operator.
    for (; nextLine !== -1 && nextLine < at; nextLine = text.indexOf('\n', nextLine + 1)) line = nextLine;
    if (line > end && text.slice(text.lastIndexOf('\n', end) + 1, end).includes('//')) return true;
    if (mayTarget(text, end, names)) return true;
  }
  return false;
}

/** Whether what ends at `end` may be an assignment's target that holds one of `names`. */
function mayTarget(text: string, end: number, names: ReadonlySet<string>): boolean {
  const last = text[end];
  if (last === undefined) return false;
  if (last === ']' || last === '}' || last === ')') {
    const start = openingOf(text, end);
    if (start === undefined) return true;
    if (last === ']' && isMember(text, start)) return false;
    return !isDeclared(text, start) && [...wordsIn(text.slice(start, end))].some((word) => names.has(word));
  }
  // A comment may end here.
  if (last === '/') return true;
  const start = wordStart(text, end);
  if (start > end || !names.has(text.slice(start, end + 1))) return false;
  return text[lastBefore(text, start)] !== '.' && !isDeclared(text, start);
}

/** Whether a bracket at `start` stands behind what it takes a member of, and begins no pattern. */
function isMember(text: string, start: number): boolean {
  const end = start - 1;
  if (text[end] === ']') return true;
  if (text[end] === ')') {
    // Behind the head of an `if`, a pattern may stand.
    const opening = openingOf(text, end);
    const inside = opening === undefined ? '"' : text.slice(opening, end).replace(/\/\*[^*'"`()[\]{}]*\*\//g, '');
    if (/['"`/]/.test(inside)) return false;
    const last = lastBefore(text, opening!);
    // A comment may end here.
    if (text[last] === '/') return false;
    return !headWords.test(text.slice(wordStart(text, last), last + 1));
  }
  const word = text.slice(wordStart(text, end), start);
  return word !== '' && !words.test(word);
}

/** Words whose heads in brackets a statement follows. */
const headWords = /^(?:if|while|for|with|await)$/;

/** Words behind which a value or a pattern begins. */
const words = /^(?:return|throw|typeof|void|delete|in|of|instanceof|new|await|yield|case|do|else|extends|default)$/;

/** `name++`, `--name`. */
function hasStep(text: string, names: ReadonlySet<string>): boolean {
  for (const operator of ['++', '--']) {
    for (let at = text.indexOf(operator); at !== -1; at = text.indexOf(operator, at + 2)) {
      const end = lastBefore(text, at);
      if (names.has(text.slice(wordStart(text, end), end + 1)) || text[end] === ')') return true;
      const after = /^[\s(]*([\w$\u0080-\uffff]+)/.exec(text.slice(at + 2, at + 200))?.[1];
      if (after !== undefined && names.has(after)) return true;
    }
  }
  return false;
}

/** `for (name of …)`, `for ({ name } in …)`. */
function hasLoopTarget(text: string, names: ReadonlySet<string>): boolean {
  if (!text.includes('for')) return false;
  for (const { 1: head } of text.matchAll(/\bfor\b(?:\s*await\b)?\s*\((?!\s*(?:const|let|var)\b)([^;]{0,5000}?)\b(?:of|in)\b/g))
    for (const word of wordsIn(head!)) if (names.has(word)) return true;
  return false;
}

const wordPart = /[\w$\u0080-\uffff]/;

/** The last place before `at` that is no white space. */
function lastBefore(text: string, at: number): number {
  let end = at - 1;
  while (end >= 0 && text.charCodeAt(end) <= 32) end--;
  return end;
}

/** The start of the word that ends at `end`; behind it where none does. */
function wordStart(text: string, end: number): number {
  let start = end + 1;
  while (start > 0 && wordPart.test(text[start - 1]!)) start--;
  return start;
}

/** Whether a declaring keyword stands before `start`. */
function isDeclared(text: string, start: number): boolean {
  const end = lastBefore(text, start);
  const word = text.slice(wordStart(text, end), end + 1);
  return word === 'const' || word === 'let' || word === 'var';
}

const openings: Record<string, string> = { ']': '[', '}': '{', ')': '(' };

/** The bracket that matches the one at `end`, strings and comments not minded; `undefined` where the brackets don't fit. */
function openingOf(text: string, end: number): number | undefined {
  const wanted: string[] = [];
  for (let at = end; at >= 0; at--) {
    const mark = text[at]!;
    if (mark in openings) wanted.push(openings[mark]!);
    else if (mark === '(' || mark === '[' || mark === '{') {
      if (wanted.pop() !== mark) return undefined;
      if (wanted.length === 0) return at;
    }
  }
  return undefined;
}

function* wordsIn(text: string): Generator<string> {
  for (const [word] of text.matchAll(/[\w$\u0080-\uffff]+/g)) yield word;
}
