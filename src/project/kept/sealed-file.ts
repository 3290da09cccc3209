import { createWriteStream, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { basename } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { crc32 } from 'node:zlib';
import { batches, type TextParts } from '../../core/text/batches.js';

/** Writes under another name first, so that nobody ever reads half a file. Returns what tells later whether it's whole. */
export async function writeWhole(path: string, parts: TextParts): Promise<{ bytes: number; sum: number }> {
  const temporary = `${path}.${process.pid}`;
  let bytes = 0;
  let sum = 0;
  const counted = function* () {
    for (const batch of batches(parts)) {
      const chunk = Buffer.from(batch);
      bytes += chunk.length;
      sum = crc32(chunk, sum);
      yield chunk;
    }
  };
  try {
    await pipeline(Readable.from(counted()), createWriteStream(temporary));
    renameSync(temporary, path);
  } catch (error) {
    rmSync(temporary, { force: true });
    throw error;
  }
  return { bytes, sum };
}

/** The same with bytes. */
export function writeBytes(path: string, bytes: Buffer): void {
  const temporary = `${path}.${process.pid}`;
  try {
    writeFileSync(temporary, bytes);
    renameSync(temporary, path);
  } catch (error) {
    rmSync(temporary, { force: true });
    throw error;
  }
}

/** JSON with its checksum in front. */
export async function writeSealed(path: string, value: object): Promise<void> {
  const text = JSON.stringify(value);
  await writeWhole(path, [`${crc32(text)}\n`, text]);
}

/**
 * Reads what `writeSealed` wrote.
 *
 * @throws Error where it's something else.
 */
export function readSealed(path: string): unknown {
  const text = readFileSync(path, 'utf8');
  const end = text.indexOf('\n');
  if (String(crc32(text.slice(end + 1))) !== text.slice(0, end)) throw new Error(`${basename(path)} is damaged`);
  return JSON.parse(text.slice(end + 1));
}
