/** A program that runs beside the dev server, as the settings give it, with everything filled in. */
export interface RunRule {
  name: string;
  /** The program and its arguments; one text where a shell reads it. */
  command: readonly string[];
  shell: boolean;
  /** Absolute path. */
  cwd: string;
  env: Readonly<Record<string, string>>;
  /** A URL that answers, a port that is open, or a text in the output; at once where there is none. */
  ready?: string | number;
  /** Globs, from the project's folder, of files that make it start over. */
  restartOn: readonly string[];
  /** Give Node.js a port for debuggers. */
  inspect: boolean;
}

/** What a program that runs alongside does. */
export type RunEvent =
  | { event: 'command'; name: string; state: 'starts'; command: string; why?: string }
  /** `isOther`: what says that it's ready was there before it was started. */
  | { event: 'command'; name: string; state: 'ready'; ms: number; inspect?: string; isOther?: true; ready?: string }
  /** `restartMs`: it's started again after that time. */
  | { event: 'command'; name: string; state: 'ended'; code: number | null; signal: string | null; restartMs?: number }
  | { event: 'command'; name: string; state: 'failed'; why: string; hint: string }
  | { event: 'output'; name: string; stream: 'stdout' | 'stderr'; text: string };
