export type { Adapter, AdapterContext, AdapterResult } from './core/adapter.js';
export type { Settings } from './settings/schema.js';
