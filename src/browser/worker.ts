import { setSourceBase } from './runtime/handle.js';
import { vine } from './runtime/runtime.js';

/** The URL prefix of the front end, which the server puts in front of this script. */
declare const vineBase: string;

setSourceBase(vineBase);
Object.defineProperty(globalThis, '~vine', { value: vine, configurable: true });
