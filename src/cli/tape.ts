import { readFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { VineError } from '../core/problem/problem.js';
import type { Tape } from '../forward/forwarder.js';
import { type HarEntry, readHar } from '../forward/har.js';
import { Recorder, type RecorderOptions } from '../forward/recorder.js';
import { Replay } from '../forward/replay.js';

/** Options of `serve` that concern recordings. */
export interface TapeOptions {
  record?: string;
  recordSecrets?: boolean;
  replay?: string;
  replayOnly?: boolean;
  replayDelays?: boolean;
}

/**
 * Opens what `--record` and `--replay` name.
 *
 * @throws VineError `recording-unusable` for a file that is no recording or can't be written.
 */
export function tapeOf(
  { record, recordSecrets = false, replay, replayOnly = false, replayDelays = false }: TapeOptions,
  version: string,
  onNote: (note: string) => void,
): Tape {
  if (replayOnly && replay === undefined) throw unreadableRecording('--replay-only', 'it needs --replay <file>');
  return {
    ...(record === undefined
      ? {}
      : { recorder: openRecorder({ file: resolve(record), withSecrets: recordSecrets, version, onNote }) }),
    ...(replay === undefined
      ? {}
      : { replay: new Replay({ entries: readRecording(replay, onNote), isOnly: replayOnly, withDelays: replayDelays }) }),
  };
}

function openRecorder(options: RecorderOptions): Recorder {
  try {
    return new Recorder(options);
  } catch (error) {
    throw unreadableRecording(options.file, (error as Error).message);
  }
}

function readRecording(file: string, onNote: (note: string) => void): HarEntry[] {
  try {
    return readHar(readFileSync(file, 'utf8'), (what) =>
      onNote(`the recording ${file} is used without the entry that is wrong: ${what}`),
    );
  } catch (error) {
    throw unreadableRecording(file, (error as Error).message);
  }
}

function unreadableRecording(file: string, why: string): VineError {
  return new VineError({
    code: 'recording-unusable',
    message: `The recording ${file} cannot be used: ${why.split('\n')[0]}.`,
    hint: 'It must be a HAR 1.2 file, as --record and browsers write it.',
  });
}
