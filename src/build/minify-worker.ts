// Makes scripts smaller in a thread of its own, for `minify-pool.ts`.
import workerpool from 'workerpool';
import { smallerScript } from './minify.js';

workerpool.worker({ smallerScript });
