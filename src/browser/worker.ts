import { watchWorkerErrors } from './live/worker-errors.js';
import { setFrontEndBase } from './runtime/base-path.js';
import { vine } from './runtime/runtime.js';

/** The URL prefix of the front end, which the server puts in front of this script. */
declare const vineBase: string;

setFrontEndBase(vineBase);
Object.defineProperty(globalThis, '~vine', { value: vine, configurable: true });
watchWorkerErrors();
