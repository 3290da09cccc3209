/** So many things are told once. */
const most = 50;

/** What is told once, however often it happens. */
export class ToldOnce {
  readonly #keys = new Set<string>();

  /** Whether something wasn't told yet. From now on it was. */
  isNews(key: string): boolean {
    if (this.#keys.has(key) || this.#keys.size >= most) return false;
    this.#keys.add(key);
    return true;
  }
}
