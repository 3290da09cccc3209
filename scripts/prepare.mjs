// Makes a fresh clone ready, using nothing but Node.js: installs packages, builds, and for tests finds Chromium.
// Usage: node scripts/prepare.mjs build|test|bench
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, lstatSync, mkdirSync, readdirSync, readFileSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const cache = join(root, 'node_modules/.cache/prepare');

function fail(message) {
  console.error(message);
  process.exit(1);
}

function run(command, args, options = {}) {
  const { status, error } = spawnSync(command, args, { cwd: root, stdio: 'inherit', ...options });
  if (error || status !== 0) fail(`${command} ${args.join(' ')} failed${error ? `: ${error.message}` : ''}.`);
}

/** Runs `make` unless the files it depends on are those of the last time. */
function unlessSame(name, files, isMade, make) {
  const hash = createHash('sha1');
  for (const file of files) hash.update(file).update(readFileSync(file));
  const stamp = join(cache, name);
  const digest = hash.digest('hex');
  if (isMade() && existsSync(stamp) && readFileSync(stamp, 'utf8') === digest) return;
  make();
  mkdirSync(cache, { recursive: true });
  writeFileSync(stamp, digest);
}

function filesBelow(folder) {
  return readdirSync(join(root, folder)).flatMap((name) => {
    const path = join(folder, name);
    return statSync(join(root, path)).isDirectory() ? filesBelow(path) : [join(root, path)];
  });
}

const [major, minor] = process.versions.node.split('.').map(Number);
if (major < 20 || (major === 20 && minor < 19)) fail(`Node.js 20.19 or newer is needed; this is ${process.versions.node}.`);

const packageFiles = ['package.json', 'package-lock.json'].map((name) => join(root, name));
unlessSame(
  'install',
  packageFiles,
  () => existsSync(join(root, 'node_modules/typescript')),
  () => {
    run('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error']);
  },
);

const sources = [...filesBelow('src'), ...filesBelow('scripts'), join(root, 'tsconfig.json'), ...packageFiles];
unlessSame(
  'build',
  sources.sort(),
  () => existsSync(join(root, 'dist/browser/client.js')),
  () => run(process.execPath, ['scripts/build.mjs']),
);
// So that scripts in folders below, such as a copy of the demo, find the program by its name, as where it is installed.
const command = join(root, 'node_modules/.bin/vine-spark');
if (process.platform !== 'win32' && lstatSync(command, { throwIfNoEntry: false }) === undefined)
  symlinkSync('../../dist/cli/main.js', command);

/** Installs packages of the system quietly. Returns whether that worked. */
function installed(...names) {
  const quiet = { env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' }, stdio: ['ignore', 'ignore', 'inherit'] };
  if (process.getuid?.() !== 0 || !existsSync('/usr/bin/apt-get')) return false;
  const update = spawnSync('apt-get', ['update', '-qq'], quiet);
  const install = spawnSync('apt-get', ['install', '-y', '-qq', '--no-install-recommends', ...names], quiet);
  return update.status === 0 && install.status === 0;
}

if (['test', 'bench'].includes(process.argv[2])) {
  // Trusts the tests' certificate authority in a store of Chromium's own.
  const hasStores = (process.env.PATH ?? '').split(':').some((folder) => existsSync(join(folder, 'certutil')));
  const places = [process.env.CHROMIUM, '/usr/bin/chromium', '/usr/bin/chromium-browser', '/usr/bin/google-chrome'];
  if (!places.some((path) => path && existsSync(path)) || !hasStores) {
    console.log("Installing Debian's Chromium and certutil for the tests …");
    if (!installed('chromium', 'libnss3-tools') || !existsSync('/usr/bin/chromium'))
      fail(
        'The tests need Chromium and certutil. Install them (on Debian: apt-get install chromium libnss3-tools), or set CHROMIUM to the path of the first.',
      );
  }
  // The same browser without its windows takes a third of the time; where there is none, tests do without.
  const tried = join(cache, 'shell');
  if (
    process.argv[2] === 'test' &&
    !process.env.CHROMIUM &&
    !existsSync('/usr/bin/chromium-headless-shell') &&
    !existsSync(tried)
  ) {
    console.log('Installing chromium-headless-shell, with which the tests take less time …');
    // Once: what isn't to be had isn't waited for each time.
    mkdirSync(cache, { recursive: true });
    writeFileSync(tried, '');
    installed('chromium-headless-shell');
  }
}
