import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import type { Settings } from '../settings/schema.js';

/** What a front end inside of a server of yours consists of: settings, which come before those of the settings file, and where it is. */
export interface FrontEndOptions extends Omit<Settings, '$schema' | 'listen'> {
  /** The project's folder; by default the current one. */
  root?: string;
  /** Another settings file than that of the folder. */
  settingsFile?: string;
  /** Host names, beside `localhost` and addresses, under which browsers reach your server. */
  names?: string[];
  /** Updates are applied in place; `false`: pages reload. */
  hot?: boolean;
  /** What is printed: everything, problems only, or nothing. */
  print?: 'all' | 'problems' | 'nothing';
}

/** HTML for a page that your server renders itself. */
export interface EntryTags {
  /** For the head. */
  styles: string;
  /** For the end of the head or of the body. */
  scripts: string;
}

/** A front end inside of a server of yours. */
export interface FrontEnd {
  /** Answers a request. What is nobody's here goes to `next`, or gets a 404 where there is none. */
  handle(request: IncomingMessage, response: ServerResponse, next?: () => void): void;
  /** Takes connections of pages, and those that rules forward. Others are left to your own listeners. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void;
  /** What brings a module of `embed.entries` into a page that your server renders, in development and in production. */
  tags(entry: string): EntryTags;
  /** Ends watching, open connections of pages, and everything else that it began. */
  close(): Promise<void>;
}
