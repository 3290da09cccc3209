/** What is said of a setting, in the documentation, the JSON Schema and beside mistakes. */
export interface SettingDoc {
  /** What holds where nobody sets it, as it stands in the documentation. */
  standard: string;
  what: string;
  /** A value as a settings file would hold it. */
  example: string;
}

/** Every setting by its name, in the order of the documentation. `docs/settings.md` is made of it: `node scripts/settings-list.mjs`. */
export const settingDocs: Readonly<Record<string, SettingDoc>> = {
  $schema: {
    standard: '',
    what: 'a JSON Schema for editors, in the `.json` form: `vine-spark settings --schema` prints one; means nothing here',
    example: "'./node_modules/vine-spark/dist/settings.schema.json'",
  },
  pages: {
    standard: 'the page of the command line, or every HTML file of the folder',
    what: "URL pattern -> HTML file, or a page that has no file: `{ script: 'src/main.tsx', title: 'Departures', mount: 'harbour', language: 'en' }`, of which only `script` (one or several) is needed. `*` stands for a part of the path, `**` for any number of them",
    example: "{ '/': 'index.html', '/berths/*': 'index.html' }",
  },
  'insert.head': {
    standard: '',
    what: "HTML, or the path of a file that holds some, for the end of every page's head",
    example: '\'<meta name="theme-color" content="#1f5d3a">\'',
  },
  'insert.body': {
    standard: '',
    what: 'the same for the end of the body',
    example: "'insert/footer.html'",
  },
  base: {
    standard: "`'/'`",
    what: 'URL prefix of the whole front end; starts and ends with `/`',
    example: "'/berths/'",
  },
  verbatim: {
    standard: "`['public']`",
    what: 'folders whose files are served as they are; they may appear later. A folder with an `index.html` is a page',
    example: "['public']",
  },
  'listen.host': {
    standard: "`'localhost'`",
    what: 'address to listen on',
    example: "'0.0.0.0'",
  },
  'listen.port': {
    standard: '`8463`',
    what: "port to listen on; if it's taken, the next free one",
    example: '8463',
  },
  'listen.exact': {
    standard: '`false`',
    what: 'fail where the port is taken',
    example: 'true',
  },
  'listen.names': {
    standard: '`[]`',
    what: 'further host names that browsers may use, such as that of a tunnel',
    example: "['harbour.example']",
  },
  'listen.https': {
    standard: '`false`',
    what: '`true`: talk by TLS with a certificate for this machine; or your own files: `{ key, certificate }`, in PEM',
    example: 'true',
  },
  forward: {
    standard: '`[]`',
    what: 'rules that send paths to backends: `{ paths, to, … }`, see [forwarding.md](forwarding.md)',
    example: "[{ paths: ['/api'], to: 'http://127.0.0.1:8464' }]",
  },
  run: {
    standard: '`[]`',
    what: 'programs that run alongside, such as the backend: `{ command, name, ready, restartOn, inspect, cwd, env, shell }`, see [run.md](run.md)',
    example: "[{ name: 'backend', command: 'node server.js', ready: 'http://127.0.0.1:8464/health' }]",
  },
  'embed.from': {
    standard: '`[]`',
    what: 'origins of pages that a backend renders and that load our scripts: [backends.md](backends.md)',
    example: "['http://localhost:8464']",
  },
  'embed.entries': {
    standard: '`[]`',
    what: 'modules and sheets that such pages start, so that a build has them',
    example: "['src/berths.tsx']",
  },
  'embed.urls': {
    standard: '`{}`',
    what: "path that a backend's template names -> the module, sheet or file that stands for it",
    example: "{ '/static/app.js': 'src/main.tsx' }",
  },
  'embed.watch': {
    standard: '`[]`',
    what: 'patterns of files that a backend makes its pages of: their changes reload its pages',
    example: "['templates/**']",
  },
  'output.folder': {
    standard: "`'dist'`",
    what: "where `build` writes to, from the project's folder",
    example: "'dist'",
  },
  'output.empty': {
    standard: '`true`',
    what: 'take away what earlier builds wrote; files of others stay either way',
    example: 'false',
  },
  'output.sourceMaps': {
    standard: "`'on'`",
    what: "`'hidden'` writes maps that no file names, `'off'` none",
    example: "'hidden'",
  },
  'output.manifest': {
    standard: '`true`',
    what: 'write `vine-spark.json`, the list of files ([backends.md](backends.md)); without it the list is kept beside the installed packages',
    example: 'false',
  },
  'output.integrity': {
    standard: '`false`',
    what: 'scripts and styles say what their content has to be',
    example: 'true',
  },
  'output.functionNames': {
    standard: "`'kept'`",
    what: "`'free'`: functions and classes may lose the names that programs read off them, which saves a few percent",
    example: "'free'",
  },
  'output.inlineBytes': {
    standard: '`0`',
    what: "images and fonts up to this size become part of the scripts and sheets that use them; bytes, or a text such as `'4 KB'`",
    example: "'4 KB'",
  },
  'output.limits': {
    standard: '`{}`',
    what: '`firstLoad` and `later`: sizes, compressed with gzip, beyond which a build fails and says what grew',
    example: "{ firstLoad: '180 KB' }",
  },
  targets: {
    standard: "the project's browserslist, else widely available browsers",
    what: 'a browserslist query: what builds have to run in. The dev server never looks at it',
    example: "'last 2 years'",
  },
  alias: {
    standard: '`{}`',
    what: 'name at the start of an import, or of what a sheet names, -> a path or a package in its place',
    example: "{ '@': './src' }",
  },
  roots: {
    standard: '`[]`',
    what: 'folders where imports without `./` are looked for before packages',
    example: "['src']",
  },
  conditions: {
    standard: '`[]`',
    what: 'conditions for `exports` of packages, beside `browser`, `development`, `import`, `module`, `require`',
    example: "['harbour']",
  },
  expose: {
    standard: '`[]`',
    what: 'environment variables that modules may read as `process.env.NAME`. Values come from the environment, or from `.env`, `.env.local`, `.env.development`, `.env.development.local`, later ones first; others are `undefined`',
    example: "['HARBOUR_NAME']",
  },
  adapters: {
    standard: '`[]`',
    what: 'your own file kinds: [adapters.md](adapters.md)',
    example: '[markdown]',
  },
  constants: {
    standard: '`{}`',
    what: "expression -> value, e.g. `'process.env.HARBOUR': 'Saltmarsh'`; put in the place of the expression",
    example: "{ 'process.env.HARBOUR': 'Saltmarsh' }",
  },
  types: {
    standard: '`false`',
    what: "check types beside everything else, with the project's own TypeScript (5 to 7): its problems stand in the terminal and in the page, and updates never wait for it. A build fails on them",
    example: 'true',
  },
  pageErrors: {
    standard: '`true`',
    what: 'whether errors that nothing in a page catches are printed in the terminal',
    example: 'false',
  },
};
