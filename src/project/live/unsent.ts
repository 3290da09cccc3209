/** What changed but wasn't sent to the pages yet, because it's still being collected or problems keep it back. */
export class Unsent {
  readonly changed = new Set<string>();
  readonly removed = new Set<string>();
  readonly styles = new Set<string>();
  /** Page -> why it has to reload. */
  readonly reload = new Map<string, string>();

  /** Path of a URL -> the file behind it. */
  readonly files = new Map<string, string>();
  /** Ids of files whose change led to all that. */
  readonly saved = new Set<string>();

  get isEmpty(): boolean {
    return this.changed.size + this.removed.size + this.styles.size + this.reload.size + this.files.size === 0;
  }

  /** Everything collected, taken out. */
  take(): {
    changed: string[];
    removed: string[];
    styles: string[];
    reload: [page: string, reason: string][];
    files: [path: string, file: string][];
    saved: string[];
  } {
    const taken = {
      changed: [...this.changed],
      removed: [...this.removed],
      styles: [...this.styles],
      reload: [...this.reload],
      files: [...this.files],
      saved: [...this.saved],
    };
    for (const part of [this.changed, this.removed, this.styles, this.reload, this.files, this.saved]) part.clear();
    return taken;
  }

  added(id: string): void {
    this.removed.delete(id);
    this.changed.add(id);
  }

  dropped(id: string): void {
    this.changed.delete(id);
    this.removed.add(id);
  }

  /** Runs work whose changes need not be sent, since whoever caused it gets them another way. */
  async without(work: () => Promise<void>): Promise<void> {
    const before = new Set(this.changed);
    await work();
    for (const id of this.changed) if (!before.has(id)) this.changed.delete(id);
  }
}
