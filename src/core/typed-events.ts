/** Typed events: subscribing returns the way to unsubscribe. */
export class TypedEvents<Events extends object> {
  readonly #listeners = new Map<keyof Events, Set<(event: never) => void>>();

  on<Name extends keyof Events>(name: Name, listener: (event: Events[Name]) => void): () => void {
    const group = this.#listeners.get(name) ?? new Set();
    this.#listeners.set(name, group.add(listener as (event: never) => void));
    return () => group.delete(listener as (event: never) => void);
  }

  emit<Name extends keyof Events>(name: Name, event: Events[Name]): void {
    for (const listener of this.#listeners.get(name) ?? []) (listener as (event: Events[Name]) => void)(event);
  }

  removeAllListeners(): void {
    this.#listeners.clear();
  }
}
