/**
 * The text of a source, kept once: as it is, or, from the time when its map is complete, as the JSON text that maps quote.
 * Making that takes longer than anything else about a map.
 */
export class SourceText {
  #text: string | undefined;
  #json: string | undefined;

  constructor(text: string) {
    this.#text = text;
  }

  get text(): string {
    return this.#text ?? (JSON.parse(this.#json!) as string);
  }

  get json(): string {
    return this.#json ?? JSON.stringify(this.#text);
  }

  /** From now on maps are what it's needed for. */
  keepAsJson(): void {
    this.#json ??= JSON.stringify(this.#text);
    this.#text = undefined;
  }
}
