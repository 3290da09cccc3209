export type { Settings } from './settings/schema.js';
