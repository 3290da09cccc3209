import { describe, expect, test } from '@jest/globals';
import { modulesOnCycles, modulesRunEarly } from '../../src/core/graph/cycles.js';
import { type Edge, type EdgeKind, ModuleGraph } from '../../src/core/graph/module-graph.js';

const to = (...targets: string[]): Edge[] =>
  targets.map((target) => {
    const [name, kind = 'import'] = target.split(':');
    return { kind: kind as EdgeKind, specifier: `./${name}`, target: name! };
  });

/** A graph of modules given as `name: targets`, with roots. */
function graphOf(modules: Record<string, string[]>, roots: string[]): ModuleGraph<string> {
  const graph = new ModuleGraph<string>();
  graph.setRoots(roots);
  for (const [id, targets] of Object.entries(modules)) graph.set(id, id, to(...targets));
  return graph;
}

describe('the module graph', () => {
  test('tells what is missing, but not what waits behind a dynamic import', () => {
    const graph = graphOf({}, ['page']);
    expect(graph.set('page', '', to('board', 'late:dynamic', 'sheet:style')).missing).toEqual(['board', 'sheet']);
  });

  test('orders dependencies before dependents, each once, without styles of styles', () => {
    const graph = graphOf({ page: ['a', 'b'], a: ['c'], b: ['c', 'late:dynamic'], c: ['img:style'], img: [], late: [] }, [
      'page',
    ]);
    expect(graph.reachable(['page'])).toEqual(['c', 'a', 'b', 'page']);
    expect(graph.reachable(['late', 'page'], new Set(['c']))).toEqual(['late', 'a', 'b', 'page']);
  });

  test('removes what nothing reaches any more, and all below it that only it reached', () => {
    const graph = graphOf({ page: ['a', 'b'], a: ['c', 'd'], b: ['d'], c: [], d: [] }, ['page']);
    expect(graph.set('page', '', to('b')).removed.toSorted()).toEqual(['a', 'c']);
    expect([...graph.ids()].toSorted()).toEqual(['b', 'd', 'page']);
  });

  test('removes an island of modules that import each other', () => {
    const graph = graphOf({ page: ['a'], a: ['b'], b: ['a', 'c'], c: [] }, ['page']);
    expect(graph.set('page', '', []).removed.toSorted()).toEqual(['a', 'b', 'c']);
    expect(graph.size).toBe(1);
  });

  test('keeps what another edge of the same importer still reaches', () => {
    const graph = graphOf({ page: ['a', 'a:dynamic'], a: [] }, ['page']);
    expect(graph.set('page', '', to('a:dynamic')).removed).toEqual([]);
    expect(graph.set('page', '', []).removed).toEqual(['a']);
  });

  test('lets go of what only a former root reached', () => {
    const graph = graphOf({ one: ['a'], two: ['b'], a: [], b: [] }, ['one', 'two']);
    expect(graph.setRoots(['two']).toSorted()).toEqual(['a', 'one']);
  });

  test('finds a shortest way from a page to a module, there or not', () => {
    const graph = graphOf({ page: ['a', 'b'], a: ['b'], b: ['c', 'gone'], c: [] }, ['page']);
    expect(graph.chainTo('c')).toEqual(['page', 'b', 'c']);
    expect(graph.chainTo('gone')).toEqual(['page', 'b', 'gone']);
    expect(graph.chainTo('nowhere')).toEqual(['nowhere']);
  });

  test('drops what was loaded for an importer that never came', () => {
    const graph = graphOf({ page: [], alone: ['below'], below: [] }, ['page']);
    expect(graph.dropUnreachable().toSorted()).toEqual(['alone', 'below']);
  });

  test('survives chains of many modules', () => {
    const long = Object.fromEntries(Array.from({ length: 3000 }, (_, n) => [`m${n}`, [`m${n + 1}`]]));
    const graph = graphOf({ ...long, m3000: [] }, ['m0']);
    expect(graph.reachable(['m0'])[0]).toBe('m3000');
    expect(graph.set('m0', '', []).removed).toHaveLength(3000);
  });
});

describe('cycles', () => {
  const modules = {
    page: ['a', 'self'],
    a: ['b'],
    b: ['c', 'out'],
    c: ['a', 'late:dynamic'],
    out: ['deep'],
    deep: [],
    self: ['self'],
    late: ['page'],
  };

  test('are found over static imports only, a module that imports itself among them', () => {
    expect([...modulesOnCycles(graphOf(modules, ['page'])).keys()].toSorted()).toEqual(['a', 'b', 'c', 'self']);
  });

  test('reach down to modules whose functions may be called before they run', () => {
    const early = modulesRunEarly(graphOf(modules, ['page']), (content) => content === 'deep');
    expect([...early].toSorted()).toEqual(['a', 'b', 'c', 'deep', 'self']);
  });
});
