import { expect, test } from '@jest/globals';
import { type AskedGraph, circlesOf, dependentsOf, reachedFrom, shortestChains } from '../../src/core/graph/questions.js';
import { randomNumbers } from '../support/random-program.js';
import { full } from '../support/sizes.js';

/** Random graphs, small enough for every path to be walked. */
function randomGraph(seed: number): AskedGraph {
  const random = randomNumbers(seed);
  const ids = Array.from({ length: 2 + random(7) }, (_, n) => `m${n}`);
  const edges = new Map(
    ids.map((id) => [
      id,
      Array.from({ length: random(4) }, () => ({
        target: ids[random(ids.length)]!,
        kind: random(5) === 0 ? 'dynamic' : 'import',
        specifier: '',
      })),
    ]),
  );
  return { roots: ids.slice(0, 1 + random(2)), edges };
}

/** Every way without a repetition from some start. */
function* ways({ edges }: AskedGraph, way: string[]): Generator<string[]> {
  yield way;
  for (const target of new Set(edges.get(way.at(-1)!)!.map((edge) => edge.target)))
    if (!way.includes(target)) yield* ways({ roots: [], edges }, [...way, target]);
}

test('answers about random graphs are those of a walk over every path', () => {
  for (let seed = 0; seed < full(80, 400); seed++) compare(randomGraph(seed));
});

function compare(graph: AskedGraph): void {
  const all = graph.roots.flatMap((root) => [...ways(graph, [root])]);
  const reached = new Set(all.map((way) => way.at(-1)!));
  expect([...reachedFrom(graph)].sort()).toEqual([...reached].sort());
  for (const id of graph.edges.keys()) {
    const to = all.filter((way) => way.at(-1) === id);
    const shortest = Math.min(...to.map((way) => way.length));
    expect(
      shortestChains(graph, new Set([id]), 1000)
        .map(String)
        .sort(),
    ).toEqual(
      to
        .filter((way) => way.length === shortest)
        .map(String)
        .sort(),
    );
    const above = [...graph.edges.keys()].filter(
      (from) => from !== id && [...ways(graph, [from])].some((way) => way.at(-1) === id),
    );
    expect(dependentsOf(graph, id)).toEqual({
      direct: above.filter((from) => graph.edges.get(from)!.some(({ target }) => target === id)).sort(),
      all: above.sort(),
    });
  }
  const direct: AskedGraph = {
    roots: [],
    edges: new Map([...graph.edges].map(([id, list]) => [id, list.filter(({ kind }) => kind === 'import')])),
  };
  const isInCircle = (id: string, without?: { from: string; to: string }) => {
    const edges = new Map(
      [...direct.edges].map(([from, list]) => [
        from,
        list.filter(({ target }) => from !== without?.from || target !== without.to),
      ]),
    );
    return edges
      .get(id)!
      .some(({ target }) => target === id || [...ways({ roots: [], edges }, [target])].some((way) => way.at(-1) === id));
  };
  const circles = circlesOf(graph);
  expect(circles.flatMap(({ members }) => members).sort()).toEqual([...graph.edges.keys()].filter((id) => isInCircle(id)).sort());
  for (const { members, way, cut, left } of circles) {
    expect(way[0]).toBe(way.at(-1));
    for (const [at, id] of way.slice(1).entries())
      expect(direct.edges.get(way[at]!)!.some(({ target }) => target === id)).toBe(true);
    expect(way.slice(0, 2)).toEqual([cut.from, cut.to]);
    expect(members.filter((id) => isInCircle(id, cut)).length).toBe(left);
    const others = members.flatMap((from) =>
      direct.edges
        .get(from)!
        .filter(({ target }) => members.includes(target))
        .map(({ target: to }) => ({ from, to })),
    );
    expect(Math.min(...others.map((other) => members.filter((id) => isInCircle(id, other)).length))).toBe(left);
  }
}
