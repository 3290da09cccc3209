import type { CommandLineSettings } from '../../settings/effective.js';
import type { TapeOptions } from '../tape.js';

/** Options of `serve` as Commander gives them. */
export interface ServeOptions extends Omit<CommandLineSettings, 'page'>, TapeOptions {
  open?: boolean;
  qr?: boolean;
  console?: boolean;
  hot: boolean;
  cache?: boolean;
  poll?: boolean;
  built?: boolean;
  traffic?: boolean;
  trace?: string;
  json?: boolean;
  quiet?: boolean;
}

/** What `serve` is asked for. */
export interface ServeRequest {
  version: string;
  page?: string;
  options: ServeOptions;
}
