import { escapeHtml } from '../tool-page.js';
import { type FoundComponent, samplesOf } from './props.js';

/** How a component is put on a page. */
export type StageKind = 'react' | 'preact' | 'vue' | 'svelte';

/** What a component's own page is made of. Paths are from the project's folder. */
export interface Stage {
  kind: StageKind;
  /** Path of the component's file. */
  file: string;
  components: readonly FoundComponent[];
  /** Path of the file with its samples; absent where there is none. */
  samples?: string | undefined;
  /** Paths of the sheets that the project's page has. */
  sheets: readonly string[];
}

const style = `
/* The component alone is shown as in its own page: what is ours holds around it only. */
body:has(.stage, .list) { margin: 0; font: 14px/1.5 system-ui, sans-serif; color: #22262a; background: #f7f4ec; }
.stage { display: grid; grid-template-columns: 280px 1fr; min-height: 100vh; }
.stage > form { padding: 20px; border-right: 1px solid #e2dccb; background: #fffdf8; display: flex; flex-direction: column; gap: 12px; }
.stage h1 { font-size: 17px; margin: 0; color: #1f5d3a; }
.stage p { margin: 0; color: #646a64; }
.stage label { display: flex; flex-direction: column; gap: 3px; color: #646a64; }
.stage label.row { flex-direction: row; align-items: center; gap: 8px; }
.stage input:not([type=checkbox]), .stage select, .stage textarea { font: inherit; color: #22262a; padding: 5px 8px; border: 1px solid #e2dccb; border-radius: 6px; background: #fff; }
.stage textarea { font-family: ui-monospace, monospace; font-size: 12px; min-height: 90px; }
.stage textarea[aria-invalid=true] { border-color: #d9482b; }
.widths { display: flex; gap: 6px; }
.widths button { flex: 1; font: inherit; padding: 4px; border: 1px solid #e2dccb; border-radius: 6px; background: #f7f4ec; cursor: pointer; }
.widths button[aria-pressed=true] { background: #1f5d3a; color: #fff; border-color: #1f5d3a; }
.stage main { padding: 24px; overflow: auto; }
.frame { resize: both; overflow: hidden; height: 70vh; max-width: 100%; min-width: 200px; background: #fff; border: 1px solid #e2dccb; border-radius: 8px; }
.frame iframe { width: 100%; height: 100%; border: 0; }
.list { max-width: 1080px; margin: 0 auto; padding: 32px 24px; }
.list h1 { color: #1f5d3a; font-size: 22px; margin: 0 0 12px; }
.list input { font: inherit; padding: 7px 10px; border: 1px solid #e2dccb; border-radius: 6px; width: 320px; }
.list ul { list-style: none; padding: 0; display: grid; gap: 16px; grid-template-columns: repeat(auto-fill, minmax(240px, 1fr)); }
.list a { display: block; color: inherit; text-decoration: none; background: #fffdf8; border: 1px solid #e2dccb; border-radius: 8px; overflow: hidden; }
.list a:hover, .list a:focus-visible { border-color: #1f5d3a; }
.list .glance { height: 140px; overflow: hidden; background: #fff; border-bottom: 1px solid #e2dccb; pointer-events: none; }
.list .glance iframe { width: 200%; height: 200%; border: 0; transform: scale(.5); transform-origin: 0 0; }
.list b { display: block; padding: 8px 12px 0; }
.list small { display: block; padding: 0 12px 10px; color: #646a64; }
`;

/** What shows a component, by its framework: a function that is called with the component and its props, again and again. */
const shows: Record<StageKind, string> = {
  react: `const [{ createRoot }, { createElement }] = await Promise.all([import('react-dom/client'), import('react')]);
  const root = createRoot(place);
  return (component, props) => root.render(createElement(component, props));`,
  preact: `const { h, render } = await import('preact');
  return (component, props) => render(h(component, props), place);`,
  vue: `const { createApp, h, shallowReactive } = await import('vue');
  const shown = shallowReactive({ component: undefined, props: {} });
  createApp({ render: () => shown.component && h(shown.component, shown.props) }).mount(place);
  return (component, props) => Object.assign(shown, { component, props });`,
  svelte: `const [{ mount, unmount }, { createSubscriber }] = await Promise.all([import('svelte'), import('svelte/reactivity')]);
  let [known, made, current, changed] = [undefined, undefined, {}, () => {}];
  const subscribe = createSubscriber((update) => { changed = update; });
  const props = new Proxy({}, {
    get: (_, name) => (subscribe(), current[name]),
    has: (_, name) => name in current,
    ownKeys: () => (subscribe(), Reflect.ownKeys(current)),
    getOwnPropertyDescriptor: (_, name) => (name in current ? { value: current[name], enumerable: true, configurable: true } : undefined),
  });
  return (component, given) => {
    current = given;
    if (component === known) return changed();
    if (made) unmount(made);
    known = component;
    made = mount(component, { target: place, props });
  };`,
};

/** The page of a component alone: a panel for its props beside a frame that shows it, or with \`?alone\` nothing but that. */
export function stageHtml(stage: Stage): string {
  const { kind, file, components, samples, sheets } = stage;
  const about = components.map(({ name, shown, props }) => ({
    name,
    shown,
    props: props ?? null,
    samples: props ? samplesOf(props) : {},
  }));
  const title = file.split('/').at(-1)!;
  const script = `
const about = ${json(about)};
const query = new URLSearchParams(location.search);
const own = new Set(['alone', 'component', 'sample', 'width', 'props']);

/** Props as the address has them. */
function given() {
  const props = JSON.parse(query.get('props') ?? '{}');
  for (const [name, text] of query) if (!own.has(name)) props[name] = valueOf(text);
  return props;
}
function valueOf(text) {
  try { return JSON.parse(text); } catch { return text; }
}
/** Functions can't be sent: they say in the console that they were called. */
function withFunctions(props, component) {
  const named = about.find(({ name }) => name === component)?.props ?? [];
  const functions = named.filter(({ type, name }) => type.kind === 'function' && !(name in props));
  for (const { name, type } of named) if (type.kind === 'date' && typeof props[name] === 'string') props = { ...props, [name]: new Date(props[name]) };
  return { ...props, ...Object.fromEntries(functions.map(({ name }) => [name, (...values) => console.log(name, ...values)])) };
}

async function shower(place) {
  ${shows[kind]}
}

if (query.has('alone')) {
  const show = await shower(document.querySelector('#app'));
  let component = query.get('component') ?? about[0]?.name ?? 'default';
  let sample = query.get('sample') ?? '';
  let props = query.has('props') || sample !== '' ? given() : { ...about.find(({ name }) => name === component)?.samples, ...given() };
  const draw = async () => {
    const module = await import(${json(`/${file}`)});
    const samples = ${samples === undefined ? '{}' : `await import(${json(`/${samples}`)})`};
    const chosen = samples[sample];
    if (typeof chosen === 'function') show(chosen, {});
    else show(module[component] ?? module.default, withFunctions({ ...chosen, ...props }, component));
    parent.postMessage({ samples: Object.keys(samples) }, location.origin);
  };
  addEventListener('message', ({ data, origin }) => {
    if (origin !== location.origin || !data?.show) return;
    ({ component, sample, props } = data.show);
    draw();
  });
  import.meta.live?.take(draw);
  parent.postMessage({ listens: true }, location.origin);
  await draw();
} else panel();

function panel() {
  const place = document.querySelector('#app');
  place.className = 'stage';
  place.innerHTML = '<form><h1></h1><p></p><div class="widths"></div></form><main><div class="frame"><iframe title="the component"></iframe></div></main>';
  const form = place.querySelector('form');
  place.querySelector('h1').textContent = ${json(title)};
  place.querySelector('p').textContent = ${json(file)};
  const frame = place.querySelector('.frame');
  const inner = place.querySelector('iframe');
  const state = { component: query.get('component') ?? about[0]?.name ?? 'default', sample: query.get('sample') ?? '', props: query.get('sample') ? given() : { ...first(), ...given() } };
  let begun = '';
  const make = (tag, more = {}) => Object.assign(document.createElement(tag), more);
  const field = (text, input, isRow) => {
    const label = make('label', { className: isRow ? 'row' : '' });
    if (isRow) label.append(input, text);
    else label.append(text, input);
    form.append(label);
  };
  function first() {
    const one = about.find(({ name }) => name === (query.get('component') ?? about[0]?.name));
    return one?.samples ?? {};
  }
  const changed = () => {
    const next = new URLSearchParams();
    if (state.component !== about[0]?.name) next.set('component', state.component);
    if (state.sample) next.set('sample', state.sample);
    if (query.get('width')) next.set('width', query.get('width'));
    for (const [name, value] of Object.entries(state.props)) if (value !== undefined) next.set(name, typeof value === 'string' ? value : JSON.stringify(value));
    history.replaceState(null, '', '?' + next);
    inner.contentWindow.postMessage({ show: state }, location.origin);
  };
  if (about.length > 1) {
    const select = make('select');
    for (const { name, shown } of about) select.append(make('option', { value: name, textContent: shown, selected: name === state.component }));
    select.onchange = () => { location.search = '?component=' + encodeURIComponent(select.value); };
    field('component', select);
  }
  const samples = make('select');
  // What a sample says is not to be hidden by what the fields say: they begin empty.
  samples.onchange = () => { location.search = '?' + new URLSearchParams({ component: state.component, sample: samples.value }); };
  addEventListener('message', ({ data, origin, source }) => {
    if (origin !== location.origin || source !== inner.contentWindow) return;
    // What was changed before it listened.
    if (data?.listens && JSON.stringify(state) !== begun) inner.contentWindow.postMessage({ show: state }, location.origin);
    if (!data?.samples) return;
    samples.replaceChildren(make('option', { value: '', textContent: 'none' }), ...data.samples.map((name) => make('option', { value: name, textContent: name, selected: name === state.sample })));
    if (data.samples.length > 0 && !samples.isConnected) {
      field('sample', samples);
      form.prepend(place.querySelector('h1'), place.querySelector('p'), place.querySelector('.widths'), samples.parentElement);
    }
  });
  const props = about.find(({ name }) => name === state.component)?.props ?? null;
  for (const { name, type, isOptional } of props ?? []) {
    if (type.kind === 'function') continue;
    const set = (value) => { state.props[name] = value; changed(); };
    const value = state.props[name];
    const text = isOptional ? name : name + ' *';
    if (type.kind === 'boolean') field(text, make('input', { type: 'checkbox', name, checked: value === true, onchange: ({ target }) => set(target.checked) }), true);
    else if (type.kind === 'choice') {
      const select = make('select', { name });
      if (isOptional) select.append(make('option', { value: '', textContent: '' }));
      for (const one of type.values) select.append(make('option', { value: JSON.stringify(one), textContent: String(one), selected: one === value }));
      select.onchange = () => set(select.value === '' ? undefined : JSON.parse(select.value));
      field(text, select);
    } else if (type.kind === 'number') field(text, make('input', { type: 'number', name, value: value ?? '', oninput: ({ target }) => set(target.value === '' ? undefined : Number(target.value)) }));
    else if (type.kind === 'string' || type.kind === 'node' || type.kind === 'date') field(text, make('input', { name, value: value ?? '', oninput: ({ target }) => set(target.value) }));
    else field(text + ' (JSON)', jsonField(name, value, set));
  }
  if (props === null) field('props (JSON)', jsonField('props', state.props, (value) => { state.props = value ?? {}; changed(); }));
  function jsonField(name, value, set) {
    const area = make('textarea', { name, value: value === undefined ? '' : JSON.stringify(value, null, 2), spellcheck: false });
    area.oninput = () => {
      try {
        set(area.value.trim() === '' ? undefined : JSON.parse(area.value));
        area.setAttribute('aria-invalid', 'false');
      } catch { area.setAttribute('aria-invalid', 'true'); }
    };
    return area;
  }
  const widths = { phone: '390px', tablet: '820px', desktop: '' };
  const setWidth = (name) => {
    frame.style.width = name in widths ? widths[name] : /^\\d+$/.test(name) ? name + 'px' : '';
    for (const button of place.querySelectorAll('.widths button')) button.setAttribute('aria-pressed', button.textContent === name);
  };
  for (const name of Object.keys(widths)) place.querySelector('.widths').append(make('button', { type: 'button', textContent: name, onclick: () => { query.set('width', name); setWidth(name); changed(); } }));
  setWidth(query.get('width') ?? 'desktop');
  const start = new URLSearchParams({ alone: '', component: state.component, sample: state.sample, props: JSON.stringify(state.props) });
  begun = JSON.stringify(state);
  inner.src = location.pathname + '?' + start;
}
`;
  return page(title, sheets, `<div id="app"></div>`, script);
}

/** The list of all components, each with its page, its place and a look at it. */
export function listHtml(title: string, items: readonly { path: string; name: string; file: string }[]): string {
  const rows = items.map(
    ({ path, name, file }) =>
      `<li data-name="${escapeHtml(`${name} ${file}`.toLowerCase())}"><a href="${escapeHtml(path)}"><div class="glance"><iframe title="${escapeHtml(name)}" loading="lazy" tabindex="-1" src="${escapeHtml(path)}?alone"></iframe></div><b>${escapeHtml(name)}</b><small>${escapeHtml(file)}</small></a></li>`,
  );
  const script = `
const search = document.querySelector('input');
search.oninput = () => {
  const wanted = search.value.toLowerCase();
  for (const row of document.querySelectorAll('li')) row.hidden = !row.dataset.name.includes(wanted);
};
`;
  const body = `<div class="list"><h1>${escapeHtml(title)}</h1><input type="search" placeholder="search" aria-label="search"><ul>${rows.join('\n')}</ul></div>`;
  return page(title, [], body, script);
}

function page(title: string, sheets: readonly string[], body: string, script: string): string {
  const links = sheets.map((path) => `<link rel="stylesheet" href="/${escapeHtml(path)}">\n`).join('');
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escapeHtml(title)}</title>
${links}<style>${style}</style>
</head>
<body>
${body}
<script type="module">${script.replaceAll('</script', '<\\/script')}</script>
</body>
</html>
`;
}

function json(value: unknown): string {
  return JSON.stringify(value).replaceAll('<', '\\u003c');
}
