import type { ClientSettings } from '../core/live/messages.js';
import { LiveClient } from './live/client.js';
import { Embedding, type Shown } from './live/embed.js';
import { setFrontEndBase } from './runtime/base-path.js';
import { setHookKey, setRevision } from './runtime/hook.js';
import { installRefresh, type RefreshRuntime } from './runtime/refresh.js';
import { vine } from './runtime/runtime.js';
import { linkSheetsOnly, replaceRefusedSheets } from './runtime/sheets.js';

/** React's refresh runtime, which the build puts in front of this script. */
declare const refreshPackage: RefreshRuntime;
/** What the server puts in front of this script for pages that a backend renders. `entries`: what starts, where no tag says it. */
declare const sparkEmbed: (ClientSettings & { entries?: readonly string[] }) | undefined;

/** What the page's hook offers beside the runtime. */
interface Hook {
  /** Starts what a tag names. */
  embed(tag: HTMLScriptElement | null, entries?: readonly string[]): void;
  /** Brings what the server gives for it. */
  show(shown: Shown): void;
}

const script = document.currentScript as HTMLScriptElement | null;
const embedded = typeof sparkEmbed === 'undefined' ? undefined : sparkEmbed;
const there = (globalThis as { '~spark'?: Hook })['~spark'];
// The page has one client, however many tags it has.
const hook = there && embedded ? there : begin(embedded ?? (JSON.parse(script!.dataset.spark!) as ClientSettings));
if (embedded) hook.embed(script, embedded.entries);

function begin(settings: ClientSettings): Hook {
  setFrontEndBase(settings.base, script?.src);
  setHookKey(settings.hook);
  setRevision(settings.revision);
  if (settings.links) linkSheetsOnly();
  installRefresh(refreshPackage);
  const client = new LiveClient(settings);
  const embedding = new Embedding(client);
  const made: Hook = {
    embed: (tag, entries) => embedding.start(tag, entries),
    show: (shown) => embedding.show(shown),
  };
  Object.defineProperty(globalThis, '~spark', { value: Object.assign(vine, made), configurable: true });
  // Before the page's own scripts run, which are deferred.
  document.addEventListener('readystatechange', () => void replaceRefusedSheets(), { once: true });
  // A page of a backend is known by what its tags start.
  if (!embedded) void client.connect();
  return made;
}
