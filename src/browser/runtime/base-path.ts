import { ownPrefix } from '../../core/urls.js';

let basePath = '/';
/** What stands in front of our paths where this page is somewhere else: an origin, and what a server on the way puts before. */
let place = '';

/** The URL prefix of the front end, with a slash at both ends. */
export function frontEndBase(): string {
  return basePath;
}

/** Sets the prefix, before anything else happens. `script` is the URL of a script of ours, which tells where we are. */
export function setFrontEndBase(prefix: string, script?: string): void {
  basePath = prefix;
  if (script === undefined) return;
  const { origin, pathname } = new URL(script, location.href);
  const before = pathname.slice(0, Math.max(0, pathname.lastIndexOf(`${prefix}${ownPrefix}`)));
  place = origin === location.origin ? before : origin + before;
}

/** In a worker of a page that is somewhere else. */
export function setPlace(of: string): void {
  place = of;
}

/** What `setPlace` has to be told. */
export function placeOfServer(): string {
  return place;
}

/** Whether the page is of another origin than its modules, such as a backend's. */
export function isElsewhere(): boolean {
  return !place.startsWith('/') && place !== '';
}

/** One of our paths as this page reaches it. */
export function ours(path: string): string {
  return path.startsWith('/') && !path.startsWith('//') ? place + path : path;
}

/** The path that `ours` was told. */
export function pathOfOurs(url: string): string {
  return place !== '' && url.startsWith(place) ? url.slice(place.length) : url;
}

/** The origin that our files come from. */
export function ownOrigin(): string {
  return isElsewhere() ? new URL(place).origin : location.origin;
}
