import { closeSync, fstatSync, ftruncateSync, openSync, readSync, renameSync, rmSync, writeSync } from 'node:fs';
import { crc32 } from 'node:zlib';

/** What a file of ours begins with; another number when its form changes. */
const beginning = Buffer.from('vine-spark kept 1\n');
/** In front of each entry: a mark, the bytes of its key and of its value, and the CRC-32 of both. */
const headBytes = 16;
const mark = 0x56534b31;

interface Place {
  /** Where the key begins. */
  at: number;
  keyBytes: number;
  valueBytes: number;
  sum: number;
}

/**
 * Texts by key in one file, to which new entries are appended: the last one of a key counts. Each carries a checksum, so that
 * damage costs the entry and nothing else, and nothing of the file is mapped into memory, where damage could end the process.
 * Several processes may append to one file; each sees what was there when it opened it, and its own.
 */
export class PackedFile {
  readonly #path: string;
  #descriptor: number;
  readonly #places = new Map<string, Place>();
  /** The file as it was opened, while much is being read; afterwards entries are read one by one. */
  #whole: Buffer | undefined;
  #bytes: number;

  private constructor(path: string, descriptor: number, whole: Buffer) {
    this.#path = path;
    this.#descriptor = descriptor;
    this.#whole = whole;
    this.#bytes = whole.length;
  }

  /**
   * Opens a file, or makes it. One that isn't ours is replaced; what follows damage is given up, which `onDamage` is told.
   *
   * @throws Error of the file system.
   */
  static open(path: string, onDamage: (why: string) => void): PackedFile {
    const descriptor = openSync(path, 'a+', 0o600);
    try {
      const whole = readAll(descriptor);
      const file = new PackedFile(path, descriptor, whole);
      const isOurs = whole.length === 0 || whole.subarray(0, beginning.length).equals(beginning);
      const end = isOurs ? file.#index() : 0;
      if (!isOurs) onDamage('it is not ours');
      else if (end < whole.length) onDamage('it is incomplete');
      if (end < whole.length) ftruncateSync(descriptor, end);
      file.#bytes = end;
      if (end === 0) file.#append([beginning]);
      return file;
    } catch (error) {
      closeSync(descriptor);
      throw error;
    }
  }

  get bytes(): number {
    return this.#bytes;
  }

  keys(): IterableIterator<string> {
    return this.#places.keys();
  }

  /** The text of a key; `undefined` where there is none, or where its checksum says that it isn't what was written. */
  get(key: string): string | undefined {
    const place = this.#places.get(key);
    if (!place) return undefined;
    const { at, keyBytes, valueBytes, sum } = place;
    const end = at + keyBytes + valueBytes;
    const entry = this.#whole && end <= this.#whole.length ? this.#whole.subarray(at, end) : this.#read(at, end);
    if (entry.length === end - at && crc32(entry) === sum) return entry.toString('utf8', keyBytes);
    this.#places.delete(key);
    return undefined;
  }

  has(key: string): boolean {
    return this.#places.has(key);
  }

  /** Appends entries, in one piece, so that what others append comes before or after them. */
  put(entries: Iterable<readonly [key: string, value: string]>): void {
    const parts: Buffer[] = [];
    let at = this.#bytes;
    const places: [string, Place][] = [];
    for (const [key, value] of entries) {
      const text = Buffer.from(key + value);
      const keyBytes = Buffer.byteLength(key);
      const place = { at: at + headBytes, keyBytes, valueBytes: text.length - keyBytes, sum: crc32(text) };
      parts.push(headOf(place), text);
      places.push([key, place]);
      at += headBytes + text.length;
    }
    const start = this.#append(parts);
    // Somebody else may have appended in between.
    for (const [key, place] of places) this.#places.set(key, { ...place, at: place.at + start });
  }

  /** From now on little is read: the file's bytes are let go of. */
  settle(): void {
    this.#whole = undefined;
  }

  /** Writes the file anew with some of its entries. Others who have the old one open go on with that. */
  keepOnly(isKept: (key: string) => boolean): void {
    const kept = [...this.#places.keys()].filter(isKept).flatMap((key) => {
      const value = this.get(key);
      return value === undefined ? [] : [[key, value] as const];
    });
    const temporary = `${this.#path}.${process.pid}`;
    rmSync(temporary, { force: true });
    const fresh = PackedFile.open(temporary, () => {});
    try {
      fresh.put(kept);
      renameSync(temporary, this.#path);
    } catch (error) {
      fresh.close();
      rmSync(temporary, { force: true });
      throw error;
    }
    closeSync(this.#descriptor);
    this.#descriptor = fresh.#descriptor;
    this.#bytes = fresh.#bytes;
    this.#whole = undefined;
    this.#places.clear();
    for (const [key, place] of fresh.#places) this.#places.set(key, place);
  }

  close(): void {
    closeSync(this.#descriptor);
  }

  /** Notes where each entry is. Returns where the last whole one ends. */
  #index(): number {
    const whole = this.#whole!;
    let at = Math.min(whole.length, beginning.length);
    while (at + headBytes <= whole.length) {
      // Two processes that make the file at once each begin it.
      if (whole.subarray(at, at + beginning.length).equals(beginning)) at += beginning.length;
      if (at + headBytes > whole.length) break;
      const keyBytes = whole.readUInt32LE(at + 4);
      const valueBytes = whole.readUInt32LE(at + 8);
      const start = at + headBytes;
      const end = start + keyBytes + valueBytes;
      if (whole.readUInt32LE(at) !== mark || end > whole.length) break;
      const key = whole.toString('utf8', start, start + keyBytes);
      this.#places.set(key, { at: start, keyBytes, valueBytes, sum: whole.readUInt32LE(at + 12) });
      at = end;
    }
    return at;
  }

  #read(from: number, to: number): Buffer {
    const bytes = Buffer.alloc(to - from);
    return bytes.subarray(0, readSync(this.#descriptor, bytes, 0, bytes.length, from));
  }

  /** Appends bytes. Returns how much further back they stand than at the end that was known. */
  #append(parts: readonly Buffer[]): number {
    const bytes = Buffer.concat(parts);
    let written = 0;
    while (written < bytes.length) written += writeSync(this.#descriptor, bytes, written);
    const end = fstatSync(this.#descriptor).size;
    const start = end - bytes.length - this.#bytes;
    this.#bytes = end;
    return start;
  }
}

function headOf({ keyBytes, valueBytes, sum }: Place): Buffer {
  const head = Buffer.alloc(headBytes);
  head.writeUInt32LE(mark, 0);
  head.writeUInt32LE(keyBytes, 4);
  head.writeUInt32LE(valueBytes, 8);
  head.writeUInt32LE(sum, 12);
  return head;
}

function readAll(descriptor: number): Buffer {
  const bytes = Buffer.allocUnsafe(fstatSync(descriptor).size);
  let at = 0;
  while (at < bytes.length) {
    const read = readSync(descriptor, bytes, at, bytes.length - at, at);
    if (read === 0) break;
    at += read;
  }
  return bytes.subarray(0, at);
}
