#!/usr/bin/env node
// Before anything else is loaded, which an older Node.js may not even be able to read.
const [major = 0, minor = 0] = process.versions.node.split('.').map(Number);
if (major < 20 || (major === 20 && minor < 19)) {
  console.error(`Vine Spark needs Node.js 20.19 or newer, and this is ${process.versions.node}.`);
  console.error('Install a newer one, or let your version manager use one in this folder.');
  process.exit(2);
}
await import('./main.js');

export {};
