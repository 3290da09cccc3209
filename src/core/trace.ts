/** One event of the Trace Event Format: times in microseconds. */
export interface TraceEvent {
  name: string;
  cat: string;
  /** `X`: something with a duration; `b` and `e`: begin and end of what may overlap; `M`: a name. */
  ph: 'X' | 'b' | 'e' | 'M';
  ts: number;
  dur?: number;
  pid: number;
  tid: number;
  id?: string;
  args?: Record<string, unknown>;
}

/** Rows of the picture that trace viewers draw. */
export const lanes = { main: 1, translator: 2, browser: 10 } as const;

/** Takes down where time goes. All times are those of `performance.now()`, in milliseconds. */
export class Trace {
  readonly #write: ((event: TraceEvent) => void) | undefined;
  #overlapping = 0;

  /** Without `write` nothing is taken down, and nothing is paid for it. */
  constructor(write?: (event: TraceEvent) => void) {
    this.#write = write;
    if (!write) return;
    const names = { main: 'server', translator: 'translator threads', browser: 'browsers' };
    for (const [lane, name] of Object.entries(names))
      write({
        name: 'thread_name',
        cat: '__metadata',
        ph: 'M',
        ts: 0,
        pid: 1,
        tid: lanes[lane as keyof typeof lanes],
        args: { name },
      });
  }

  /** The time now; 0 where nothing is taken down. */
  now(): number {
    return this.#write ? performance.now() : 0;
  }

  /** Something that took the main thread from `from` to `to`, or until now. */
  span(category: string, name: string, from: number, args?: Record<string, unknown>, to = this.now()): void {
    this.#write?.({
      name,
      cat: category,
      ph: 'X',
      ts: Math.round(from * 1000),
      dur: Math.round((to - from) * 1000),
      pid: 1,
      tid: lanes.main,
      ...(args ? { args } : {}),
    });
  }

  /** Something that went on beside the main thread, or waited, from `from` to `to`. */
  overlapping(
    category: string,
    name: string,
    from: number,
    args?: Record<string, unknown>,
    lane: number = lanes.translator,
    to = this.now(),
  ): void {
    if (!this.#write) return;
    const event = { name, cat: category, pid: 1, tid: lane, id: String(++this.#overlapping), ...(args ? { args } : {}) };
    this.#write({ ...event, ph: 'b', ts: Math.round(from * 1000) });
    this.#write({ ...event, ph: 'e', ts: Math.round(to * 1000) });
  }

  /** What a browser did one after another until now, with `[name, ms]` for each. */
  stages(category: string, stages: readonly (readonly [name: string, ms: number])[], args: Record<string, unknown>): void {
    if (!this.#write) return;
    let from = this.now() - stages.reduce((sum, [, ms]) => sum + ms, 0);
    for (const [name, ms] of stages) {
      this.overlapping(category, name, from, args, lanes.browser, from + ms);
      from += ms;
    }
  }
}

/** Takes nothing down. */
export const noTrace = new Trace();
