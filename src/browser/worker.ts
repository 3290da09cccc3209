import { watchWorkerErrors } from './live/worker-errors.js';
import { setFrontEndBase, setPlace } from './runtime/base-path.js';
import { setHookKey } from './runtime/hook.js';
import { vine } from './runtime/runtime.js';

/** The URL prefix of the front end, which the server puts in front of this script. */
declare const sparkBase: string;
/** The key of the hook, likewise. */
declare const sparkKey: string;

setFrontEndBase(sparkBase);
setHookKey(sparkKey);
setPlace((globalThis as { '~spark place'?: string })['~spark place'] ?? '');
Object.defineProperty(globalThis, '~spark', { value: vine, configurable: true });
// A worklet tells of nothing.
if (typeof addEventListener === 'function') watchWorkerErrors();
