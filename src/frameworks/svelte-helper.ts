/** The module that components of Svelte import in development: hands state on from the instances of one version to those of the next. */
export const svelteHelper = ` import { getContext, onDestroy, setContext, untrack } from 'svelte';

const key = Symbol('vine-spark');
/** The instance that stands for an object of props. */
const byProps = new WeakMap();
/** Who is told whose state starts anew, while versions are being swapped. */
let live;

/** What stands for a component in the page: its first version, which update lets show the newest. */
export function wrapped(of, fresh, update) {
  const { wrapper } = of.state;
  of.cleanup((state) => {
    state.wrapper = wrapper ?? fresh;
  });
  if (!wrapper) return fresh;
  swapping(of);
  update(wrapper, { default: fresh });
  return wrapper;
}

function swapping(of) {
  live = of;
  const { port1, port2 } = new MessageChannel();
  port1.onmessage = () => {
    live = undefined;
    port1.close();
  };
  port2.postMessage(undefined);
}

class Instance {
  constructor(about, props) {
    Object.assign(this, about);
    this.props = props;
    this.values = new Map();
    this.children = [];
  }

  signal(name, make) {
    const old = this.before?.values.get(name);
    const value = old?.signal ?? make();
    this.values.set(name, { signal: value });
    return value;
  }

  plain(name, make, read) {
    const old = this.before?.values.get(name);
    const value = old?.read ? old.read() : make();
    this.values.set(name, { read });
    return value;
  }

  seen(name, make, read) {
    const value = make();
    const old = this.before?.values.get(name);
    if (old?.read && !isEqual(old.read(), value) && !isTakenOver(old.read(), value)) this.lost(name);
    this.values.set(name, { read });
    return value;
  }

  whole(name, make) {
    const value = make();
    const old = this.before?.values.get(name);
    if (old && !isEqual(old.value, value)) this.lost(name);
    this.values.set(name, { value });
    return value;
  }

  lost(name) {
    (this.live ?? live)?.anew(this.name + ' (' + name + ')');
  }
}

export function begin(props, about) {
  const parent = getContext(key);
  const own = new Instance(about, props);
  setContext(key, own);
  if (live) {
    const old = byProps.get(props) ?? counterpart(parent, own);
    if (old && old.script === own.script) own.before = old;
    else if (old) live.anew(own.name);
    else if (parent?.replaces) lostBelow(parent, own);
    own.replaces = old;
    if (old) old.isTaken = true;
  }
  byProps.set(props, own);
  parent?.children.push(own);
  onDestroy(() => {
    if (!live && parent) parent.children.splice(parent.children.indexOf(own), 1);
  });
  return own;
}

/** The child of the parent before whose place an instance takes: one of the same component with the same props. */
function counterpart(parent, own) {
  const others = parent?.replaces?.children.filter((old) => old.id === own.id && !old.isTaken) ?? [];
  return others.find((old) => hasSameProps(old.props, own.props)) ?? (others.length === 1 ? others[0] : undefined);
}

function lostBelow(parent, own) {
  if (parent.replaces.children.some((old) => old.id === own.id)) live.anew(own.name);
}

function hasSameProps(before, after) {
  return untrack(() => {
    try {
      const names = Object.keys(after);
      return names.length === Object.keys(before).length && names.every((name) => isSame(before[name], after[name]));
    } catch {
      return false;
    }
  });
}

/** Whether two props are equal; functions are made anew with every instance. */
function isSame(before, after) {
  return (typeof before === 'function' && typeof after === 'function') || isEqual(before, after);
}

/** Whether two values are the same, or plain data that is equal all the way down. What functions and other objects hold can't be seen. */
function isEqual(before, after, depth = 0) {
  if (Object.is(before, after)) return true;
  if (depth > 20 || !isPlain(before) || !isPlain(after)) return false;
  const names = Object.keys(before);
  return names.length === Object.keys(after).length && names.every((name) => name in after && isEqual(before[name], after[name], depth + 1));
}

/** Gives a store that can be written the value of the one before; one that can't has the same value if it's made of the same. */
function isTakenOver(before, after) {
  const members = membersOf(before);
  if (members !== membersOf(after)) return false;
  try {
    if (members === 'set,subscribe,update') after.set(valueOf(before));
    else if (members !== 'subscribe') return false;
    return isEqual(valueOf(before), valueOf(after));
  } catch {
    return false;
  }
}

/** Names of the functions that an object consists of: \`writable\` and \`derived\` make such, and others may do more than hold a value. */
function membersOf(value) {
  if (!isPlain(value) || Object.values(value).some((member) => typeof member !== 'function')) return undefined;
  return Object.keys(value).sort().join();
}

function valueOf(store) {
  let value;
  store.subscribe((now) => (value = now))();
  return value;
}

function isPlain(value) {
  return typeof value === 'object' && value !== null && [Object.prototype, Array.prototype].includes(Object.getPrototypeOf(value));
}

export function ofModule(live, script) {
  const own = new Instance({ name: 'the module', script, live }, {});
  const before = live?.state.module;
  if (before?.script === script) own.before = before;
  live?.cleanup((state) => {
    state.module = own;
  });
  return own;
}
`;
