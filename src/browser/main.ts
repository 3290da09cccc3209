import type { ClientSettings } from '../core/live/messages.js';
import { LiveClient } from './live/client.js';
import { setFrontEndBase } from './runtime/base-path.js';
import { setHookKey, setRevision } from './runtime/hook.js';
import { installRefresh, type RefreshRuntime } from './runtime/refresh.js';
import { vine } from './runtime/runtime.js';
import { replaceRefusedSheets } from './runtime/sheets.js';

/** React's refresh runtime, which the build puts in front of this script. */
declare const refreshPackage: RefreshRuntime;

const script = document.currentScript as HTMLScriptElement;
const settings = JSON.parse(script.dataset.spark!) as ClientSettings;
setFrontEndBase(settings.base);
setHookKey(settings.hook);
setRevision(settings.revision);
installRefresh(refreshPackage);
Object.defineProperty(globalThis, '~spark', { value: vine, configurable: true });
// Before the page's own scripts run, which are deferred.
document.addEventListener('readystatechange', () => void replaceRefusedSheets(), { once: true });
const client = new LiveClient(settings, new URL(script.src).origin);
void client.connect();
