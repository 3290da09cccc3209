import { register } from 'node:module';

// `node --import vine-spark/node server.ts`: Node.js runs TypeScript and JSX, and its stacks name their lines.
process.setSourceMapsEnabled(true);
register('./loader.js', import.meta.url);
