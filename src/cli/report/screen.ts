/** Lines on a terminal or in a pipe: a passing one that the next takes away, and repeated ones with a count. */
export class Screen {
  readonly #write: (text: string) => void;
  readonly #isTerminal: boolean;
  #hasPassing = false;
  #last: { key: string; count: number } | undefined;

  constructor(write: (text: string) => void, isTerminal: boolean) {
    this.#write = write;
    this.#isTerminal = isTerminal;
  }

  line(text: string): void {
    this.#last = undefined;
    this.#write(`${this.#cleared()}${text}\n`);
  }

  /** A line that says the same as others of its key. Right after one of those, it takes its place, with a count; in a pipe some are left out. */
  folded(key: string, text: string): void {
    const isAgain = this.#last?.key === key;
    const count = isAgain ? this.#last!.count + 1 : 1;
    if (!isAgain) this.line(text);
    else if (this.#isTerminal) this.#write(`${this.#cleared()}${lineAbove}${clearLine}${text}  ×${count}\n`);
    else if (/^(?:2|10*)$/.test(String(count))) this.#write(`${text}  ×${count}\n`);
    this.#last = { key, count };
  }

  /** A line that stands until the next one. Only on terminals. */
  passing(text: string): void {
    if (!this.#isTerminal) return;
    this.#write(`\r${clearLine}${text}`);
    this.#hasPassing = true;
  }

  #cleared(): string {
    const clear = this.#hasPassing ? `\r${clearLine}` : '';
    this.#hasPassing = false;
    return clear;
  }
}

/** ECMA-48, 8.3.22 and 8.3.41. */
const lineAbove = '\x1b[1A';
const clearLine = '\x1b[2K';
