import type { Kind } from './kinds.js';
import { versionOf } from './versions.js';

/** What somebody wants of a fresh project. */
export interface Wishes {
  name: string;
  kind: Kind;
  typescript: boolean;
  /** Classes such as `mt-4`, made by a PostCSS plugin. */
  utilityCss: boolean;
  /** A small server of its own, which `run` starts and `forward` reaches. */
  backend: boolean;
  /** Versions without ranges. */
  exact: boolean;
  /** What stands for Vine Spark in package.json. */
  tool: string;
  /** The command of the project's package manager. */
  manager: string;
}

/** Files by their paths. */
export type Files = Record<string, string>;

/** What a component's project needs beside the component. */
export interface Mounting {
  /** Extension of the page's script. */
  extension: 'js' | 'ts' | 'jsx' | 'tsx';
  dependencies: string[];
  devDependencies: string[];
}

/** The packages and the kind of script with which a page is made. */
export function mounting(kind: Kind, typescript: boolean): Mounting {
  const isJsx = kind === 'react' || kind === 'preact';
  const extension = `${typescript ? 'ts' : 'js'}${isJsx ? 'x' : ''}` as Mounting['extension'];
  const dependencies = { page: [], react: ['react', 'react-dom'], preact: ['preact'], vue: ['vue'], svelte: ['svelte'] }[kind];
  const types = typescript ? ['typescript', ...(kind === 'react' ? ['@types/react', '@types/react-dom'] : [])] : [];
  return { extension, dependencies, devDependencies: types };
}

/** The page's script: mounts a component that lies at `from`. `given`: its props as an expression. */
export function mainScript(
  kind: Kind,
  typescript: boolean,
  { from, name, given = '' }: { from: string; name: string; given?: string },
): string {
  const root = `document.querySelector('#app')${typescript ? '!' : ''}`;
  const what = /^default as (\w+)$/.exec(name)?.[1] ?? name;
  const imported = name.startsWith('default as ') ? what : `{ ${what} }`;
  const lines = {
    page: [`import '${from}';`],
    react: [
      `import { createRoot } from 'react-dom/client';`,
      `import ${imported} from '${from}';`,
      '',
      `createRoot(${root}).render(<${what}${given ? ` {...${given}}` : ''} />);`,
    ],
    preact: [
      `import { render } from 'preact';`,
      `import ${imported} from '${from}';`,
      '',
      `render(<${what}${given ? ` {...${given}}` : ''} />, ${root});`,
    ],
    vue: [
      `import { createApp } from 'vue';`,
      `import ${imported} from '${from}';`,
      '',
      `createApp(${what}${given ? `, ${given}` : ''}).mount('#app');`,
    ],
    svelte: [
      `import { mount } from 'svelte';`,
      `import ${imported} from '${from}';`,
      '',
      `mount(${what}, { target: ${root}${given ? `, props: ${given}` : ''} });`,
    ],
  }[kind];
  return `${lines.join('\n')}\n`;
}

/** The page. */
export function pageHtml(title: string, script: string, head = ''): string {
  return `<!doctype html>
<html lang="en">
  <head>
    <meta charset="utf-8">
    <meta name="viewport" content="width=device-width, initial-scale=1">
    <title>${title.replace(/[&<]/g, (found) => (found === '&' ? '&amp;' : '&lt;'))}</title>${head}
    <script type="module" src="${script}"></script>
  </head>
  <body>
    <div id="app"></div>
  </body>
</html>
`;
}

/** A tsconfig.json for the page's scripts. */
export function tsconfig(
  kind: Kind,
  {
    withServer = false,
    withNode = withServer,
    paths,
  }: { withServer?: boolean; withNode?: boolean; paths?: Record<string, string[]> } = {},
): string {
  const compilerOptions = {
    target: 'es2022',
    lib: ['es2023', 'dom', 'dom.iterable'],
    module: 'esnext',
    moduleResolution: 'bundler',
    ...(kind === 'react' || kind === 'preact' ? { jsx: 'react-jsx' } : {}),
    ...(kind === 'preact' ? { jsxImportSource: 'preact' } : {}),
    ...(paths ? { paths } : {}),
    strict: true,
    noEmit: true,
    skipLibCheck: true,
    verbatimModuleSyntax: true,
    types: ['vine-spark/live', ...(withNode ? ['node'] : [])],
  };
  return `${JSON.stringify({ compilerOptions, include: ['src', ...(withServer ? ['backend'] : [])] }, null, 2)}\n`;
}

export interface PackageWishes extends Pick<Wishes, 'name' | 'exact' | 'tool'> {
  dependencies: readonly string[];
  devDependencies: readonly string[];
  /** Versions of packages that are not those known here. */
  versions?: Readonly<Record<string, string>>;
}

/** The package.json of a project. */
export function packageJson({ name, exact, tool, dependencies, devDependencies, versions = {} }: PackageWishes): string {
  const withVersions = (names: readonly string[]) =>
    Object.fromEntries(
      [...new Set(names)].sort().map((one) => [one, one === 'vine-spark' ? tool : (versions[one] ?? versionOf(one, exact))]),
    );
  const description = {
    name: packageName(name),
    private: true,
    type: 'module',
    scripts: {
      serve: 'vine-spark serve',
      build: 'vine-spark build',
      'serve-built': 'vine-spark serve --built',
      check: 'vine-spark check',
    },
    ...(dependencies.length > 0 ? { dependencies: withVersions(dependencies) } : {}),
    devDependencies: withVersions([...devDependencies, 'vine-spark']),
  };
  return `${JSON.stringify(description, null, 2)}\n`;
}

/** A folder's name as a package may have it. */
export function packageName(name: string): string {
  return (
    name
      .toLowerCase()
      .replace(/[^a-z0-9._-]+/g, '-')
      .replace(/^[._-]+|-+$/g, '') || 'project'
  );
}

export const gitignore = 'node_modules/\ndist/\n.env.local\n';

/** All files of a fresh project. */
export function projectFiles(wishes: Wishes): Files {
  const { name, kind, typescript, utilityCss, backend, exact, tool, manager } = wishes;
  const { extension, dependencies, devDependencies } = mounting(kind, typescript);
  const script = typescript ? 'ts' : 'js';
  const component = {
    page: `board.${script}`,
    react: `board.${extension}`,
    preact: `board.${extension}`,
    vue: 'board.vue',
    svelte: 'board.svelte',
  }[kind];
  const title = name.replace(/[-_]+/g, ' ').replace(/^./, (letter) => letter.toUpperCase());
  const isOwnKind = kind === 'vue' || kind === 'svelte';
  const main =
    kind === 'page'
      ? boardOf(kind, wishes, title)
      : mainScript(kind, typescript, {
          from: `./${isOwnKind ? component : component.replace(/\.\w+$/, '')}`,
          name: isOwnKind ? 'default as Board' : 'Board',
        });
  return {
    'package.json': packageJson({
      name,
      exact,
      tool,
      dependencies,
      devDependencies: [
        ...devDependencies,
        ...(utilityCss ? ['tailwindcss', '@tailwindcss/postcss'] : []),
        ...(backend && typescript ? ['@types/node'] : []),
      ],
    }),
    'index.html': pageHtml(title, `src/main.${extension}`, '\n    <link rel="stylesheet" href="src/page.css">'),
    [`src/main.${extension}`]: main,
    ...(kind === 'page' ? {} : { [`src/${component}`]: boardOf(kind, wishes, title) }),
    'src/page.css': pageCss(utilityCss),
    ...(typescript ? { 'tsconfig.json': tsconfig(kind, { withServer: backend }) } : {}),
    ...(utilityCss ? { 'postcss.config.js': `export default { plugins: { '@tailwindcss/postcss': {} } };\n` } : {}),
    ...(backend
      ? { [`vine-spark.config.${script}`]: settingsFile(typescript), [`backend/server.${script}`]: serverOf(typescript) }
      : {}),
    '.gitignore': gitignore,
    'README.md': readme(title, wishes, manager),
  };
}

function pageCss(utilityCss: boolean): string {
  const own = `body {
  max-width: 40rem;
  margin: 4rem auto;
  padding: 0 1rem;
  font-family: system-ui, sans-serif;
  color: #22262a;
  background: #f7f4ec;
}

h1 {
  color: #1f5d3a;
}
`;
  return utilityCss
    ? '@import "tailwindcss";\n\n@layer base {\n  body {\n    @apply mx-auto my-16 max-w-xl px-4 font-sans;\n  }\n}\n'
    : own;
}

function settingsFile(typescript: boolean): string {
  const script = typescript ? 'ts' : 'js';
  const body = `{
  run: [{ name: 'backend', command: 'node backend/server.${script}', ready: 'http://127.0.0.1:8464/api/greeting', restartOn: ['backend/**'] }],
  forward: [{ paths: ['/api'], to: 'http://127.0.0.1:8464' }],
}`;
  return typescript
    ? `import type { Settings } from 'vine-spark';\n\nexport default ${body} satisfies Settings;\n`
    : `/** @type {import('vine-spark').Settings} */\nexport default ${body};\n`;
}

function serverOf(typescript: boolean): string {
  const string = typescript ? ': string' : '';
  return `import { createServer } from 'node:http';

const greeting${string} = 'The harbour office is open';

const server = createServer((request, response) => {
  if (request.url !== '/api/greeting') return response.writeHead(404).end();
  response.setHeader('content-type', 'application/json');
  response.end(JSON.stringify({ greeting }));
});
server.on('error', (error) => {
  console.error(error.message);
  process.exitCode = 1;
});
server.listen(8464, '127.0.0.1');
`;
}

/** The component that a fresh project shows: words that stay while its text is edited, and what the backend says. */
function boardOf(kind: Kind, { typescript: ts, utilityCss, backend }: Wishes, title: string): string {
  const className = utilityCss ? 'mt-4 text-sm' : 'note';
  const note = (attribute: string) => `<p ${attribute}="${className}">`;
  const ask = `fetch('/api/greeting')
    .then((answer) => answer.json())
    .then((said${ts ? ': { greeting: string }' : ''}) => `;
  switch (kind) {
    case 'page':
      return `const app = document.querySelector('#app')${ts ? '!' : ''};
app.innerHTML = \`<h1>${title}</h1>
<label>Words that stay <input></label>
<p class="${className}"></p>\`;
${backend ? `\nfetch('/api/greeting')\n  .then((answer) => answer.json())\n  .then((said${ts ? ': { greeting: string }' : ''}) => {\n    app.querySelector('p')${ts ? '!' : ''}.textContent = said.greeting;\n  });\n` : ''}`;
    case 'react':
    case 'preact': {
      const hooks = backend ? 'useEffect, useState' : 'useState';
      return `import { ${hooks} } from '${kind === 'react' ? 'react' : 'preact/hooks'}';

export function Board() {
  const [words, setWords] = useState('');
${backend ? `  const [greeting, setGreeting] = useState('');\n  useEffect(() => {\n    ${ask}setGreeting(said.greeting));\n  }, []);\n` : ''}  return (
    <main>
      <h1>${title}</h1>
      <label>
        Words that stay <input value={words} ${kind === 'react' ? 'onChange' : 'onInput'}={(event) => setWords(event.currentTarget.value)} />
      </label>
      ${note(kind === 'react' ? 'className' : 'class')}${backend ? '{words || greeting}' : '{words}'}</p>
    </main>
  );
}
`;
    }
    case 'vue':
      return `<script setup${ts ? ' lang="ts"' : ''}>
import { ${backend ? 'onMounted, ' : ''}ref } from 'vue';

const words = ref('');
${backend ? `const greeting = ref('');\nonMounted(() => {\n  ${ask}(greeting.value = said.greeting));\n});\n` : ''}</script>

<template>
  <h1>${title}</h1>
  <label>Words that stay <input v-model="words"></label>
  ${note('class')}{{ ${backend ? 'words || greeting' : 'words'} }}</p>
</template>
${utilityCss ? '' : '\n<style scoped>\n.note {\n  margin-top: 1rem;\n}\n</style>\n'}`;
    case 'svelte':
      return `<script${ts ? ' lang="ts"' : ''}>
  let words = $state('');
${backend ? `  let greeting = $state('');\n  $effect(() => {\n    ${ask}(greeting = said.greeting));\n  });\n` : ''}</script>

<h1>${title}</h1>
<label>Words that stay <input bind:value={words}></label>
${note('class')}{${backend ? 'words || greeting' : 'words'}}</p>
${utilityCss ? '' : '\n<style>\n  .note {\n    margin-top: 1rem;\n  }\n</style>\n'}`;
  }
}

function readme(title: string, { kind, backend, typescript }: Wishes, manager: string): string {
  const run = manager === 'npm' ? 'npm run' : manager;
  const script = typescript ? 'ts' : 'js';
  const rows = [
    `| \`${run} serve\` | the page, which follows every save |`,
    `| \`${run} build\` | files for a server, in \`dist\` |`,
    `| \`${run} serve-built\` | those files, served, to try them |`,
    `| \`${run} check\` | what will go wrong |`,
  ];
  const files = [
    '- `index.html`: the page. It names the first script and the first sheet.',
    `- \`src/\`: ${kind === 'page' ? 'the script and the sheet' : 'the component that the page shows, and what mounts it'}.`,
    ...(backend
      ? [`- \`backend/server.${script}\`: answers \`/api\`; \`vine-spark.config.${script}\` starts it and leads there.`]
      : []),
  ];
  return `# ${title}\n\n| | |\n| --- | --- |\n${rows.join('\n')}\n\n${files.join('\n')}\n`;
}
