import { type Token, Tokenizer, TokenizerMode } from 'parse5';

/** What is put into a page, as HTML. */
export interface HeadInserts {
  /** Right behind the start of the head, before anything else of it. */
  start: string;
  /** At its end. */
  end: string;
}

/** Elements that a head may hold (HTML Living Standard, 13.2.6.4.4). */
const ofHead = new Set([
  'base',
  'basefont',
  'bgsound',
  'link',
  'meta',
  'noframes',
  'noscript',
  'script',
  'style',
  'template',
  'title',
]);
/** Elements whose end tag ends a head, there or not (13.2.6.4.3 and 13.2.6.4.4). */
const endsHead = new Set(['head', 'body', 'html', 'br']);
/** Elements whose content is text. */
const textModes: Record<string, number> = {
  title: TokenizerMode.RCDATA,
  style: TokenizerMode.RAWTEXT,
  noframes: TokenizerMode.RAWTEXT,
  noscript: TokenizerMode.RAWTEXT,
  script: TokenizerMode.SCRIPT_DATA,
};
/** Whoever has no head by then has none. */
const mostHeadBytes = 2 << 20;
const byteOrderMark = Buffer.from([0xef, 0xbb, 0xbf]);

/**
 * Puts elements into the head of a page that comes in parts; every other byte stays. What is no whole page, such as a part of one
 * that a script asks for, isn't touched at all.
 *
 *   unknown ──▶ fragment
 *      └──▶ page: before the head ──▶ in the head ──▶ done
 */
export class HtmlInserter {
  readonly #headInserts: (nonce: string | undefined) => HeadInserts;
  #nonce: string | undefined;
  readonly #tokenizer: Tokenizer;
  #state: 'before' | 'head' | 'done' | 'fragment' = 'before';
  /** Something says that it's a whole page. */
  #isPage = false;
  /** Elements whose content means nothing here. */
  #inText = false;
  #templates = 0;
  /** Bytes that aren't given out yet, and where in the page they begin. */
  #waiting: Buffer = Buffer.alloc(0);
  #from = 0;
  /** Bytes in front that the tokenizer doesn't see. */
  #skipped = 0;
  /** The end of the last token. */
  #read = 0;
  #isBegun = false;
  readonly #places: { at: number; html: string }[] = [];

  /** `nonce`: what the page's security policy wants scripts and links to carry, as far as the answer's fields say. */
  constructor(inserts: (nonce: string | undefined) => HeadInserts, nonce: string | undefined) {
    this.#headInserts = inserts;
    this.#nonce = nonce;
    const seen = (token: { location: Token.Location | null }) => {
      this.#read = (token.location?.endOffset ?? 0) + this.#skipped;
    };
    const text = (token: Token.CharacterToken) => {
      this.#onText(token);
      seen(token);
    };
    this.#tokenizer = new Tokenizer(
      { sourceCodeLocationInfo: true },
      {
        onDoctype: (token) => {
          this.#isPage = true;
          seen(token);
        },
        onStartTag: (token) => {
          this.#onStartTag(token);
          seen(token);
        },
        onEndTag: (token) => {
          this.#onEndTag(token);
          seen(token);
        },
        onCharacter: text,
        onNullCharacter: seen,
        onWhitespaceCharacter: seen,
        onComment: seen,
        onEof: () => {},
      },
    );
  }

  /** Whether it's a page, or the part of one; `undefined` as long as nothing tells. */
  get isPage(): boolean | undefined {
    if (this.#state === 'fragment') return false;
    return this.#isPage || undefined;
  }

  get #isDone(): boolean {
    return this.#state === 'done';
  }

  /** Takes the next bytes. Returns those that can be given out. */
  push(bytes: Buffer): Buffer {
    this.#waiting = this.#waiting.length === 0 ? bytes : Buffer.concat([this.#waiting, bytes]);
    if (this.#state === 'before' || this.#state === 'head') {
      // One byte is one character, so that places are the same in both.
      this.#tokenizer.write(this.#withoutMark(bytes).toString('latin1'), false);
      if (this.#read > mostHeadBytes) this.#state = 'done';
    }
    return this.#given(false);
  }

  /** The rest, when there are no more bytes. */
  end(): Buffer {
    if (this.#state === 'before' || this.#state === 'head') {
      // What it was still waiting for may end the head.
      this.#tokenizer.write('', true);
      if (!this.#isPage) this.#state = 'fragment';
      else if (!this.#isDone) this.#finish(this.#from + this.#waiting.length);
    }
    return this.#given(true);
  }

  #withoutMark(bytes: Buffer): Buffer {
    if (this.#isBegun) return bytes;
    this.#isBegun = true;
    if (!bytes.subarray(0, byteOrderMark.length).equals(byteOrderMark)) return bytes;
    this.#skipped = byteOrderMark.length;
    return bytes.subarray(this.#skipped);
  }

  #given(isEnd: boolean): Buffer {
    const until = isEnd || this.#state === 'done' || this.#state === 'fragment' ? this.#from + this.#waiting.length : this.#read;
    if (this.isPage === undefined && !isEnd) return Buffer.alloc(0);
    const parts: Buffer[] = [];
    for (const { at, html } of this.#places.splice(0)) {
      parts.push(this.#take(at), Buffer.from(html));
    }
    parts.push(this.#take(until));
    return Buffer.concat(parts);
  }

  #take(until: number): Buffer {
    const count = Math.max(0, until - this.#from);
    const taken = this.#waiting.subarray(0, count);
    this.#waiting = this.#waiting.subarray(count);
    this.#from += taken.length;
    return taken;
  }

  #onStartTag({ tagName, attrs, location }: Token.TagToken): void {
    if (this.#state === 'done' || this.#state === 'fragment') return;
    const [start, end] = [location!.startOffset + this.#skipped, location!.endOffset + this.#skipped];
    const mode = textModes[tagName];
    if (mode !== undefined) {
      this.#tokenizer.state = mode as Tokenizer['state'];
      this.#inText = true;
    }
    if (tagName === 'template') this.#templates++;
    if (tagName === 'html') this.#isPage = true;
    else if (tagName === 'head') {
      this.#isPage = true;
      if (this.#state === 'before') this.#begin(end);
    } else if (!this.#isPage) this.#state = 'fragment';
    else if (this.#state === 'before' && ofHead.has(tagName)) this.#begin(start);
    else if (!ofHead.has(tagName) && this.#templates === 0) this.#finish(start);
    if (tagName === 'meta') this.#readPolicy(attrs);
  }

  #onEndTag({ tagName, location }: Token.TagToken): void {
    if (tagName === 'template') this.#templates = Math.max(0, this.#templates - 1);
    this.#inText = false;
    const isOpen = this.#isPage && (this.#state === 'before' || this.#state === 'head') && this.#templates === 0;
    if (isOpen && endsHead.has(tagName)) this.#finish(location!.startOffset + this.#skipped);
  }

  #onText({ location }: Token.CharacterToken): void {
    if (this.#inText || this.#templates > 0) return;
    if (this.#state === 'before' && !this.#isPage) this.#state = 'fragment';
    else if (this.#state === 'before' || this.#state === 'head') this.#finish(location!.startOffset + this.#skipped);
  }

  /** A policy in the page asks for a nonce from there on. */
  #readPolicy(attributes: readonly Token.Attribute[]): void {
    const value = (name: string) => attributes.find((attribute) => attribute.name === name)?.value;
    if (value('http-equiv')?.toLowerCase() === 'content-security-policy')
      this.#nonce ??= policyOf([value('content') ?? '']).nonce;
  }

  #begin(at: number): void {
    this.#state = 'head';
    this.#places.push({ at, html: this.#headInserts(this.#nonce).start });
  }

  #finish(at: number): void {
    const { start, end } = this.#headInserts(this.#nonce);
    this.#places.push({ at, html: this.#state === 'before' ? start + end : end });
    this.#state = 'done';
  }
}

/** What security policies say of scripts of the page's own origin (Content Security Policy Level 3, 6.7). */
export function policyOf(policies: readonly string[]): { nonce?: string; allowsScripts: boolean; allowsChannel: boolean } {
  const all = policies.flatMap((text) => text.split(',')).map(directivesOf);
  const of = (names: readonly string[]) =>
    all.flatMap((directives) => {
      const name = names.find((candidate) => directives.has(candidate));
      return name === undefined ? [] : [directives.get(name)!];
    });
  const scripts = of(['script-src-elem', 'script-src', 'default-src']);
  const nonces = scripts.flatMap((sources) => sources.flatMap((source) => /^'nonce-(.+)'$/i.exec(source)?.[1] ?? []));
  const [nonce] = nonces;
  const isOwn = (sources: readonly string[]) =>
    !sources.some((source) => /^'strict-dynamic'$/i.test(source)) &&
    sources.some((source) => /^(?:'self'|\*|https?:)$/i.test(source));
  return {
    ...(nonce === undefined ? {} : { nonce }),
    allowsScripts: scripts.every((sources) => isOwn(sources) || (nonce !== undefined && sources.includes(`'nonce-${nonce}'`))),
    allowsChannel: of(['connect-src', 'default-src']).every((sources) =>
      sources.some((source) => /^(?:'self'|\*|wss?:)$/i.test(source)),
    ),
  };
}

function directivesOf(policy: string): Map<string, string[]> {
  const directives = new Map<string, string[]>();
  for (const directive of policy.split(';')) {
    const [name = '', ...sources] = directive.trim().split(/\s+/);
    if (name !== '' && !directives.has(name.toLowerCase())) directives.set(name.toLowerCase(), sources);
  }
  return directives;
}
