export type { Adapter, AdapterContext, AdapterResult } from './core/translate/adapter.js';
export type { Settings } from './settings/schema.js';
