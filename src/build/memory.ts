import type { Member } from '../core/bundle/member.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { Mapped, MappedText } from './mapped.js';

/** Work of earlier builds. */
export interface Kept {
  get(key: string): string | undefined;
  put(key: string, text: () => string): void;
}

/** What a build remembers for the next one of the same process. */
export class BuildMemory implements Kept {
  readonly #members = new WeakMap<ModuleContent, { key: string; member: Member }>();
  readonly #printed = new Map<string, { content: ModuleContent; text: string; made: MappedText }>();
  readonly #sheets = new Map<string, { from: Mapped; made: Promise<Mapped> }>();
  readonly #kept = new Map<string, () => string>();

  /** A module taken apart. What is decided about it later is not part of that. */
  member(content: ModuleContent, key: string, read: () => Member): Member {
    const known = this.#members.get(content);
    const member = known?.key === key ? known.member : read();
    this.#members.set(content, { key, member });
    return { ...member };
  }

  /** What was made of a module as it's printed, where nothing about that has changed. */
  async printed(id: string, content: ModuleContent, text: string, make: () => Promise<MappedText>): Promise<MappedText> {
    const known = this.#printed.get(id);
    if (known?.content === content && known.text === text) return known.made;
    const made = await make();
    this.#printed.set(id, { content, text, made });
    return made;
  }

  /** A sheet as it goes into files, where what it was made of hasn't changed. */
  sheet(id: string, from: Mapped, make: () => Promise<Mapped>): Promise<Mapped> {
    const known = this.#sheets.get(id);
    if (known?.from.text === from.text && known.from.map === from.map) return known.made;
    const made = make();
    this.#sheets.set(id, { from, made });
    return made;
  }

  get(key: string): string | undefined {
    return this.#kept.get(key)?.();
  }

  put(key: string, text: () => string): void {
    this.#kept.set(key, text);
  }
}
