/** The module that components of Vue import: puts a component together, and lets Vue's own runtime for updates take new versions. */
export const vueHelper = `
/** What scripts were given, which stay the same when only what is around them changes. */
const given = /*#__PURE__*/ new WeakMap();

export function completed(script, fields) {
  for (const name of given.get(script) ?? []) delete script[name];
  given.set(script, Object.keys(fields));
  return Object.assign(script, fields);
}

/** Takes a component's new version over into the object by which everybody knows it, which is that of the first. */
export function follow(live, fresh, script, { id, name, scope, hasNames }) {
  const runtime = globalThis.__VUE_HMR_RUNTIME__;
  if (!runtime) return undefined;
  const { component = fresh, script: scriptBefore, scope: scopeBefore } = live.state;
  fresh.__hmrId = id;
  if (scriptBefore === undefined) runtime.createRecord(id, component);
  else if (scriptBefore === script && scopeBefore === scope) {
    // The script did not run, and elements need no other marks: state stays.
    for (const key of Object.keys(component)) if (!(key in fresh)) delete component[key];
    Object.assign(component, fresh);
    runtime.rerender(id, component.render ?? (() => null));
    if (!fresh.render) delete component.render;
  } else {
    runtime.reload(id, fresh);
    live.anew(name + ' with all in it');
  }
  Object.assign(live.state, { component, script, scope });
  // Who imports something else of it has to run again.
  if (!hasNames) live.take();
  return {
    component,
    render: (render) => {
      fresh.render = component.render = render;
      runtime.rerender(id, render);
    },
    names: (key, names) => {
      fresh.__cssModules[key] = component.__cssModules[key] = names;
      runtime.rerender(id, component.render);
    },
  };
}
`;
