import { AnyMap, eachMapping, originalPositionFor, type TraceMap } from '@jridgewell/trace-mapping';
import type { CDPSession, Page } from 'playwright-core';

interface Script {
  scriptId: string;
  url: string;
  map: TraceMap;
}

/** A place in the user's source: `line` is 1-based, `column` 0-based. */
export interface SourcePlace {
  source: string;
  line: number;
  column: number;
}

/** A pause, in the user's coordinates. */
export interface Pause extends SourcePlace {
  callFrameId: string;
  functionName: string;
}

/** Drives the browser's debugger as its own front end does: through the scripts' source maps. */
export class Debugger {
  readonly #scripts: Script[] = [];
  readonly #pauses: Pause[] = [];
  readonly #breakpoints: string[] = [];
  #waiting: ((pause: Pause) => void) | undefined;
  #changed: (() => void) | undefined;

  private constructor(
    readonly session: CDPSession,
    readonly origin: string,
  ) {}

  static async attach(page: Page, origin: string): Promise<Debugger> {
    const made = new Debugger(await page.context().newCDPSession(page), origin);
    // A map may still be on its way when a test ends and its program with it; one that a test needs is missed by `breakAt`.
    made.session.on('Debugger.scriptParsed', (event) => made.#parsed(event).catch(() => {}));
    made.session.on('Debugger.paused', (event) => made.#paused(event.callFrames[0]!));
    await made.session.send('Debugger.enable');
    return made;
  }

  async #parsed({ scriptId, url, sourceMapURL }: { scriptId: string; url: string; sourceMapURL?: string }): Promise<void> {
    if (!sourceMapURL || !url.startsWith(this.origin)) return;
    const mapUrl = new URL(sourceMapURL, url).href;
    const map = new AnyMap((await (await fetch(mapUrl)).json()) as never, mapUrl);
    this.#scripts.push({ scriptId, url, map });
    this.#changed?.();
  }

  #paused(frame: {
    callFrameId: string;
    functionName: string;
    location: { scriptId: string; lineNumber: number; columnNumber?: number };
  }): void {
    const { scriptId, lineNumber, columnNumber } = frame.location;
    const script = this.#scripts.find((candidate) => candidate.scriptId === scriptId);
    const original = script && originalPositionFor(script.map, { line: lineNumber + 1, column: columnNumber ?? 0 });
    const pause: Pause = {
      source: original?.source ? new URL(original.source).pathname : `(unmapped in ${script?.url})`,
      line: original?.line ?? -1,
      column: original?.column ?? -1,
      callFrameId: frame.callFrameId,
      functionName: frame.functionName,
    };
    if (this.#waiting) this.#waiting(pause);
    else this.#pauses.push(pause);
    this.#waiting = undefined;
  }

  /** Sets a breakpoint at a place in the user's source, in the newest script that holds it. */
  async breakAt(place: SourcePlace): Promise<void> {
    const script = await this.#scriptWith(place.source);
    // A file with parts is a source of several sections.
    let generated: { line: number; column: number } | undefined;
    eachMapping(script.map, (mapping) => {
      const isThere = mapping.source === this.origin + place.source && mapping.originalLine === place.line;
      if (isThere && mapping.originalColumn === place.column)
        generated ??= { line: mapping.generatedLine, column: mapping.generatedColumn };
    });
    if (!generated) throw new Error(`${place.source}:${place.line}:${place.column} is not mapped.`);
    const { breakpointId } = await this.session.send('Debugger.setBreakpoint', {
      location: { scriptId: script.scriptId, lineNumber: generated.line - 1, columnNumber: generated.column },
    });
    this.#breakpoints.push(breakpointId);
  }

  async removeBreakpoints(): Promise<void> {
    for (const breakpointId of this.#breakpoints.splice(0))
      await this.session.send('Debugger.removeBreakpoint', { breakpointId });
  }

  async #scriptWith(source: string): Promise<Script> {
    for (;;) {
      const found = this.#scripts.findLast(({ map }) => map.resolvedSources.includes(this.origin + source));
      if (found) return found;
      await new Promise<void>((resolve) => {
        this.#changed = resolve;
      });
    }
  }

  /** Waits until some script of an update holds the source. */
  async updateWith(source: string, count = 1): Promise<void> {
    while (
      this.#scripts.filter(({ url, map }) => url.includes('/update/') && map.resolvedSources.includes(this.origin + source))
        .length < count
    ) {
      await new Promise<void>((resolve) => {
        this.#changed = resolve;
      });
    }
  }

  nextPause(): Promise<Pause> {
    const known = this.#pauses.shift();
    if (known) return Promise.resolve(known);
    return new Promise((resolve) => {
      this.#waiting = resolve;
    });
  }

  /** The value of an expression at a pause, as JSON. */
  async evaluate(pause: Pause, expression: string): Promise<unknown> {
    const { result, exceptionDetails } = await this.session.send('Debugger.evaluateOnCallFrame', {
      callFrameId: pause.callFrameId,
      expression: `JSON.stringify(${expression})`,
    });
    if (exceptionDetails) throw new Error(`${expression}: ${result.description}`);
    return result.value === undefined ? undefined : JSON.parse(String(result.value));
  }

  async resume(): Promise<void> {
    await this.session.send('Debugger.resume');
  }

  async step(how: 'stepOver' | 'stepInto' | 'stepOut'): Promise<Pause> {
    await this.session.send(`Debugger.${how}`);
    return this.nextPause();
  }
}
