/** Packages and applications made of them, each with what is done with it for a moment: `use` gives what `expected` says. */
const react = (imports, element) =>
  `import { createRoot } from 'react-dom/client';\n${imports}\ncreateRoot(document.getElementById('app')).render(${element});\nawait new Promise((resolve) => setTimeout(resolve, 300));\nglobalThis.said = document.getElementById('app').textContent;\n`;
const said = (imports, expression) => `${imports}\nglobalThis.said = String(${expression});\n`;

export const packages = [
  {
    name: '@mui/material',
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import { Button, Card, TextField, Table, TableBody, TableRow, TableCell } from '@mui/material';`,
      `<Card><TextField label="Ferry" /><Table><TableBody><TableRow><TableCell>Gull</TableCell></TableRow></TableBody></Table><Button>Hold</Button></Card>`,
    ),
    expected: /Gull.*Hold/s,
  },
  {
    name: 'antd',
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import { Button, Table, DatePicker, Form, Input, Select } from 'antd';`,
      `<Form><Input /><Select /><DatePicker /><Table columns={[{ title: 'Ferry', dataIndex: 'ferry' }]} dataSource={[{ key: 1, ferry: 'Gull' }]} /><Button>Hold it</Button></Form>`,
    ),
    expected: /Gull.*Hold it/s,
  },
  {
    name: '@chakra-ui/react',
    with: ['@emotion/react'],
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import { ChakraProvider, defaultSystem, Button } from '@chakra-ui/react';`,
      `<ChakraProvider value={defaultSystem}><Button>Hold</Button></ChakraProvider>`,
    ),
    expected: /Hold/,
  },
  {
    name: '@mantine/core',
    with: ['@mantine/hooks'],
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import '@mantine/core/styles.css';\nimport { MantineProvider, Button, Table, Select } from '@mantine/core';`,
      `<MantineProvider><Select data={['Gull']} /><Table><tbody><tr><td>Gull</td></tr></tbody></Table><Button>Hold</Button></MantineProvider>`,
    ),
    expected: /Hold/,
  },
  {
    name: '@fluentui/react-components',
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import { FluentProvider, webLightTheme, Button, Input } from '@fluentui/react-components';`,
      `<FluentProvider theme={webLightTheme}><Input /><Button>Hold</Button></FluentProvider>`,
    ),
    expected: /Hold/,
  },
  {
    name: 'react-bootstrap',
    with: ['bootstrap'],
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import 'bootstrap/dist/css/bootstrap.css';\nimport { Button, Table, Modal } from 'react-bootstrap';`,
      `<><Table><tbody><tr><td>Gull</td></tr></tbody></Table><Modal /><Button>Hold</Button></>`,
    ),
    expected: /Gull.*Hold/s,
  },
  {
    name: '@blueprintjs/core',
    kind: 'component library',
    file: 'main.jsx',
    text: react(
      `import '@blueprintjs/core/lib/css/blueprint.css';\nimport { Button, Card, HTMLTable, InputGroup } from '@blueprintjs/core';`,
      `<Card><InputGroup /><HTMLTable><tbody><tr><td>Gull</td></tr></tbody></HTMLTable><Button text="Hold" /></Card>`,
    ),
    expected: /Gull.*Hold/s,
  },
  {
    name: 'react-admin',
    kind: 'admin application',
    file: 'main.jsx',
    text: react(
      `import { Admin, Resource, ListGuesser } from 'react-admin';\nconst data = { getList: async () => ({ data: [{ id: 1, ferry: 'Gull' }], total: 1 }), getMany: async () => ({ data: [] }) };`,
      `<Admin dataProvider={data} disableTelemetry><Resource name="sailings" list={ListGuesser} /></Admin>`,
    ),
    expected: /./s,
  },
  {
    name: 'lucide-react',
    kind: 'icon set',
    file: 'main.jsx',
    text: react(
      `import { Ship, Anchor, icons } from 'lucide-react';`,
      `<><Ship /><Anchor />{Object.keys(icons).length > 1000 ? 'over a thousand' : 'few'}</>`,
    ),
    expected: /over a thousand/,
  },
  {
    name: '@tabler/icons-react',
    kind: 'icon set',
    file: 'main.jsx',
    text: react(`import { IconShip, IconAnchor } from '@tabler/icons-react';`, `<><IconShip /><IconAnchor />two</>`),
    expected: /two/,
  },
  {
    name: '@mui/icons-material',
    with: ['@mui/material', '@emotion/styled', '@emotion/react'],
    kind: 'icon set',
    file: 'main.jsx',
    text: react(
      `import Sailing from '@mui/icons-material/Sailing';\nimport Anchor from '@mui/icons-material/Anchor';`,
      `<><Sailing /><Anchor />two</>`,
    ),
    expected: /two/,
  },
  {
    name: 'monaco-editor',
    kind: 'editor with workers',
    file: 'main.js',
    text: `import * as monaco from 'monaco-editor';\nself.MonacoEnvironment = { getWorker: (_, label) => label === 'javascript' ? new Worker(new URL('monaco-editor/language/typescript/ts.worker.js', import.meta.url), { type: 'module' }) : new Worker(new URL('monaco-editor/editor/editor.worker.js', import.meta.url), { type: 'module' }) };\nconst editor = monaco.editor.create(document.getElementById('app'), { value: 'const tide = 4;', language: 'javascript' });\nawait new Promise((resolve) => setTimeout(resolve, 800));\nglobalThis.said = editor.getValue() + monaco.languages.getLanguages().length;\n`,
    expected: /const tide = 4;\d+/,
  },
  {
    name: 'codemirror',
    with: ['@codemirror/lang-javascript'],
    kind: 'editor',
    file: 'main.js',
    text: said(
      `import { EditorView, basicSetup } from 'codemirror';\nimport { javascript } from '@codemirror/lang-javascript';\nconst view = new EditorView({ doc: 'const tide = 4;', extensions: [basicSetup, javascript()], parent: document.getElementById('app') });`,
      'view.state.doc.toString()',
    ),
    expected: /const tide = 4;/,
  },
  {
    name: '@tiptap/react',
    with: ['@tiptap/starter-kit', '@tiptap/pm', '@tiptap/core'],
    kind: 'editor',
    file: 'main.jsx',
    text: react(
      `import { useEditor, EditorContent } from '@tiptap/react';\nimport StarterKit from '@tiptap/starter-kit';\nfunction Log() { const editor = useEditor({ extensions: [StarterKit], content: '<p>all quiet</p>', immediatelyRender: true }); return <EditorContent editor={editor} />; }`,
      '<Log />',
    ),
    expected: /all quiet/,
  },
  {
    name: 'slate-react',
    with: ['slate', 'slate-dom'],
    kind: 'editor',
    file: 'main.jsx',
    text: react(
      `import { createEditor } from 'slate';\nimport { Slate, Editable, withReact } from 'slate-react';\nconst editor = withReact(createEditor());`,
      `<Slate editor={editor} initialValue={[{ type: 'paragraph', children: [{ text: 'all quiet' }] }]}><Editable /></Slate>`,
    ),
    expected: /all quiet/,
  },
  {
    name: 'three',
    kind: '3D engine',
    file: 'main.js',
    text: said(
      `import * as THREE from 'three';\nimport { OrbitControls } from 'three/addons/controls/OrbitControls.js';\nimport { GLTFLoader } from 'three/addons/loaders/GLTFLoader.js';\nconst scene = new THREE.Scene();\nscene.add(new THREE.Mesh(new THREE.BoxGeometry(1, 2, 3), new THREE.MeshBasicMaterial()));`,
      '[scene.children.length, typeof OrbitControls, typeof GLTFLoader]',
    ),
    expected: /1,function,function/,
  },
  {
    name: '@babylonjs/core',
    kind: '3D engine',
    file: 'main.js',
    text: said(
      `import { NullEngine, Scene, MeshBuilder, Vector3, FreeCamera } from '@babylonjs/core';\nconst scene = new Scene(new NullEngine());\nnew FreeCamera('c', new Vector3(0, 1, 2), scene);\nMeshBuilder.CreateBox('hull', {}, scene);`,
      'scene.meshes.length',
    ),
    expected: /1/,
  },
  {
    name: 'pixi.js',
    kind: '2D engine',
    file: 'main.js',
    text: said(
      `import { Container, Graphics, Rectangle } from 'pixi.js';\nconst quay = new Container();\nquay.addChild(new Graphics());`,
      'quay.children.length + new Rectangle(0, 0, 4, 5).right',
    ),
    expected: /5/,
  },
  {
    name: 'chart.js',
    kind: 'chart library',
    file: 'main.js',
    text: said(
      `import { Chart, registerables } from 'chart.js';\nChart.register(...registerables);\nconst canvas = document.body.appendChild(document.createElement('canvas'));\nconst chart = new Chart(canvas, { type: 'line', data: { labels: [1, 2], datasets: [{ data: [4, 5] }] } });`,
      'chart.data.datasets.length',
    ),
    expected: /1/,
  },
  {
    name: 'echarts',
    kind: 'chart library',
    file: 'main.js',
    text: said(
      `import * as echarts from 'echarts';\nconst box = document.getElementById('app');\nbox.style.cssText = 'width:300px;height:200px';\nconst chart = echarts.init(box);\nchart.setOption({ xAxis: { data: ['a'] }, yAxis: {}, series: [{ type: 'bar', data: [4] }] });`,
      'chart.getOption().series.length',
    ),
    expected: /1/,
  },
  {
    name: 'vega',
    kind: 'chart library for Node.js and browsers',
    file: 'main.js',
    text: said(
      `import * as vega from 'vega';\nconst view = new vega.View(vega.parse({ width: 9, height: 9, data: [{ name: 'tides', values: [{ h: 4 }] }] }), { renderer: 'none' });\nawait view.runAsync();`,
      `view.data('tides').length`,
    ),
    expected: /1/,
  },
  {
    name: 'd3',
    kind: 'chart library',
    file: 'main.js',
    text: said(`import * as d3 from 'd3';`, 'd3.scaleLinear([0, 10], [0, 100])(4)'),
    expected: /40/,
  },
  {
    name: 'plotly.js-dist-min',
    kind: 'chart library',
    file: 'main.js',
    text: said(
      `import Plotly from 'plotly.js-dist-min';\nawait Plotly.newPlot('app', [{ y: [1, 2, 3] }]);`,
      `document.querySelectorAll('#app .plot-container').length`,
    ),
    expected: /1/,
  },
  {
    name: 'mermaid',
    kind: 'diagrams',
    file: 'main.js',
    text: said(
      `import mermaid from 'mermaid';\nmermaid.initialize({ startOnLoad: false });\nconst { svg } = await mermaid.render('plan', 'graph TD; Quay-->Island');`,
      `svg.includes('Island')`,
    ),
    expected: /true/,
  },
  {
    name: 'cytoscape',
    kind: 'graphs',
    file: 'main.js',
    text: said(
      `import cytoscape from 'cytoscape';\nconst graph = cytoscape({ headless: true, elements: [{ data: { id: 'a' } }] });`,
      'graph.nodes().length',
    ),
    expected: /1/,
  },
  {
    name: '@aws-sdk/client-s3',
    kind: 'cloud client',
    file: 'main.js',
    text: said(
      `import { S3Client, ListBucketsCommand } from '@aws-sdk/client-s3';\nconst client = new S3Client({ region: 'local', credentials: { accessKeyId: 'a', secretAccessKey: 'b' } });`,
      '[typeof client.send, new ListBucketsCommand({}).constructor.name]',
    ),
    expected: /function,ListBucketsCommand/,
  },
  {
    name: '@azure/storage-blob',
    kind: 'cloud client',
    file: 'main.js',
    text: said(
      `import { BlobServiceClient } from '@azure/storage-blob';\nconst client = new BlobServiceClient('https://harbour.example');`,
      'client.url',
    ),
    expected: /harbour\.example/,
  },
  {
    name: 'firebase',
    kind: 'cloud client',
    file: 'main.js',
    text: said(
      `import { initializeApp } from 'firebase/app';\nimport { getFirestore, collection } from 'firebase/firestore';\nimport { getAuth } from 'firebase/auth';\nconst app = initializeApp({ projectId: 'quay', apiKey: 'k' });`,
      `[collection(getFirestore(app), 'sailings').path, typeof getAuth]`,
    ),
    expected: /sailings,function/,
  },
  {
    name: 'pdfjs-dist',
    kind: 'PDF viewer',
    file: 'main.js',
    text: said(
      `import * as pdf from 'pdfjs-dist';\npdf.GlobalWorkerOptions.workerSrc = new URL('pdfjs-dist/build/pdf.worker.mjs', import.meta.url).href;\nconst text = '%PDF-1.1\\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj 2 0 obj<</Type/Pages/Kids[3 0 R]/Count 1>>endobj 3 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 9 9]>>endobj\\ntrailer<</Root 1 0 R>>';\nconst document1 = await pdf.getDocument({ data: new TextEncoder().encode(text) }).promise;`,
      'document1.numPages',
    ),
    expected: /1/,
  },
  {
    name: 'date-fns',
    kind: 'dates',
    file: 'main.js',
    text: said(
      `import { addDays, format } from 'date-fns';\nimport * as locales from 'date-fns/locale';`,
      `format(addDays(new Date(2026, 0, 1), 3), 'yyyy-MM-dd') + Object.keys(locales).length`,
    ),
    expected: /2026-01-04\d+/,
  },
  {
    name: 'lodash-es',
    kind: 'utilities',
    file: 'main.js',
    text: said(`import _, { chunk } from 'lodash-es';`, `[chunk([1, 2, 3], 2).length, _.kebabCase('Low Water')]`),
    expected: /2,low-water/,
  },
  {
    name: 'ramda',
    kind: 'utilities',
    file: 'main.js',
    text: said(`import * as R from 'ramda';`, 'R.pipe(R.add(1), R.multiply(2))(3)'),
    expected: /8/,
  },
  {
    name: 'effect',
    kind: 'utilities',
    file: 'main.js',
    text: said(
      `import { Effect, pipe, Schema } from 'effect';`,
      'Effect.runSync(pipe(Effect.succeed(4), Effect.map((n) => n + 1))) + typeof Schema.String',
    ),
    expected: /5/,
  },
  {
    name: 'mathjs',
    kind: 'mathematics',
    file: 'main.js',
    text: said(`import { create, all } from 'mathjs';\nconst math = create(all);`, `math.evaluate('2 + 3 * 4')`),
    expected: /14/,
  },
  {
    name: 'ol',
    kind: 'maps',
    file: 'main.js',
    text: said(
      `import 'ol/ol.css';\nimport Map from 'ol/Map.js';\nimport View from 'ol/View.js';\nimport TileLayer from 'ol/layer/Tile.js';\nimport VectorSource from 'ol/source/Vector.js';\nimport GeoJSON from 'ol/format/GeoJSON.js';\nconst map = new Map({ target: 'app', layers: [new TileLayer()], view: new View({ center: [0, 0], zoom: 2 }) });`,
      '[map.getLayers().getLength(), typeof VectorSource, typeof GeoJSON]',
    ),
    expected: /1,function,function/,
  },
  {
    name: '@tensorflow/tfjs',
    kind: 'numerics',
    file: 'main.js',
    text: said(
      `import * as tf from '@tensorflow/tfjs';\nawait tf.setBackend('cpu');`,
      'tf.tensor([1, 2, 3]).sum().dataSync()[0]',
    ),
    expected: /6/,
  },
  {
    name: 'highlight.js',
    kind: 'text',
    file: 'main.js',
    text: said(
      `import hljs from 'highlight.js';`,
      `hljs.listLanguages().length + hljs.highlight('const a = 1', { language: 'javascript' }).value`,
    ),
    expected: /hljs-keyword/,
  },
  {
    name: '@apollo/client',
    with: ['graphql', 'rxjs'],
    kind: 'data client',
    file: 'main.js',
    text: said(
      `import { ApolloClient, InMemoryCache, gql, HttpLink } from '@apollo/client';\nconst client = new ApolloClient({ cache: new InMemoryCache(), link: new HttpLink({ uri: '/graphql' }) });\nclient.writeQuery({ query: gql\`{ tide }\`, data: { tide: 4 } });`,
      'client.readQuery({ query: gql`{ tide }` }).tide',
    ),
    expected: /4/,
  },
  {
    name: 'ethers',
    kind: 'cryptography',
    file: 'main.js',
    text: said(
      `import { id, getAddress, Wallet } from 'ethers';`,
      `[id('quay').length, typeof getAddress, Wallet.createRandom().address.length]`,
    ),
    expected: /66,function,42/,
  },
  {
    name: 'tone',
    kind: 'sound',
    file: 'main.js',
    text: said(`import * as Tone from 'tone';`, `Tone.Frequency('A4').toFrequency()`),
    expected: /440/,
  },
  {
    name: 'framer-motion',
    kind: 'animation',
    file: 'main.jsx',
    text: react(
      `import { motion, AnimatePresence } from 'framer-motion';`,
      `<AnimatePresence><motion.div animate={{ x: 4 }}>moving</motion.div></AnimatePresence>`,
    ),
    expected: /moving/,
  },
  {
    name: 'ag-grid-community',
    kind: 'grid',
    file: 'main.js',
    text: `import { createGrid, ModuleRegistry, AllCommunityModule } from 'ag-grid-community';\nModuleRegistry.registerModules([AllCommunityModule]);\nconst box = document.getElementById('app');\nbox.style.cssText = 'width:400px;height:300px';\ncreateGrid(box, { columnDefs: [{ field: 'ferry' }], rowData: [{ ferry: 'Gull' }] });\nawait new Promise((resolve) => setTimeout(resolve, 700));\nglobalThis.said = box.textContent;\n`,
    expected: /Gull/,
  },
  {
    name: 'handsontable',
    kind: 'grid',
    file: 'main.js',
    text: said(
      `import Handsontable from 'handsontable';\nimport 'handsontable/styles/handsontable.css';\nnew Handsontable(document.getElementById('app'), { data: [['Gull']], licenseKey: 'non-commercial-and-evaluation' });`,
      `document.getElementById('app').textContent`,
    ),
    expected: /Gull/,
  },
  {
    name: '@automerge/automerge',
    kind: 'data in WebAssembly',
    file: 'main.js',
    text: said(`import * as automerge from '@automerge/automerge';`, `automerge.from({ ferry: 'Gull' }).ferry`),
    expected: /Gull/,
  },
];
