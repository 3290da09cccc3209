import MagicString from 'magic-string';

/** What is done to a text, one after another: the operation, where, and the text. Stored flat. */
type Steps = (string | number)[];

/**
 * What was made last of the text that some units stand in: where the same is done to it again, as in a build after a change elsewhere,
 * the result is there.
 */
const knownTexts = new WeakMap<object, PrintedText>();

/** A text and what is to be done to it, as in MagicString. */
export class PrintedText {
  readonly #original: string;
  readonly #steps: Steps = [];
  #edited: MagicString | undefined;
  #text: string | undefined;

  constructor(original: string) {
    this.#original = original;
  }

  update(start: number, end: number, text: string, { storeName = false } = {}): void {
    this.#steps.push(storeName ? 'updateName' : 'update', start, end, text);
  }

  prependRight(at: number, text: string): this {
    this.#steps.push('prependRight', at, 0, text);
    return this;
  }

  appendLeft(at: number, text: string): this {
    this.#steps.push('appendLeft', at, 0, text);
    return this;
  }

  appendRight(at: number, text: string): this {
    this.#steps.push('appendRight', at, 0, text);
    return this;
  }

  /** Nothing will be done to it any more. `of` stands for the original text in every build: where that was done to it before, that is the result. */
  finished(of: object): PrintedText {
    const known = knownTexts.get(of);
    if (known && known.#original === this.#original && areSame(known.#steps, this.#steps)) return known;
    knownTexts.set(of, this);
    return this;
  }

  toString(): string {
    this.#text ??= this.edited.toString();
    return this.#text;
  }

  /** The text with all of that, for a map. */
  get edited(): MagicString {
    this.#edited ??= edited(this.#original, this.#steps);
    return this.#edited;
  }

  /** No map will be asked for any more: only the result is kept, for later builds. */
  close(): void {
    this.#edited = undefined;
  }
}

/** Does the steps. */
function edited(original: string, steps: Steps): MagicString {
  const result = new MagicString(original);
  for (let at = 0; at < steps.length; at += 4) {
    const [operation, start, end, text] = steps.slice(at, at + 4) as [string, number, number, string];
    if (operation === 'update') result.update(start, end, text);
    else if (operation === 'updateName') result.update(start, end, text, { storeName: true });
    else if (operation === 'prependRight') result.prependRight(start, text);
    else if (operation === 'appendLeft') result.appendLeft(start, text);
    else result.appendRight(start, text);
  }
  return result;
}

function areSame(some: Steps, others: Steps): boolean {
  return some.length === others.length && some.every((step, at) => step === others[at]);
}
