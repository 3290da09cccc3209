import { describe, expect, test } from '@jest/globals';
import { readPage } from '../../src/core/documents/read-page.js';
import { readStyle, type StyleReferences } from '../../src/core/documents/read-style.js';

const slice = (html: string, { start, end }: { start: number; end: number }) => html.slice(start, end);

describe('a page', () => {
  test('is read for what it names, wherever it stands', () => {
    const html = `<!doctype html><html><head><base href="/harbour/"><link rel="preload stylesheet" href=a.css>
<link rel=modulepreload href=m.js><meta property="og:image" content="og.png"><link rel="apple-touch-icon" href="icon.png"></head><body>
<template><img src="in-template.png"></template><noscript>\r\n<img src="no.png"></noscript><svg><use xlink:href="s.svg#a"/></svg>
<style>\r\n@import "b.css" print; p { background: url(c.png) }</style><p style='background: url("d.png")'><a href="e.pdf">e</a><video poster=p.jpg><source src=v.mp4></video>
<script src=old.js></script><script type="text/x-tide">not ours</script><script type=module>let inline</script>
<script type=module src=https://elsewhere.example/x.js></script><script type=module src="src/main.ts"></script></body></html>`;
    const parts = readPage(html);
    expect(parts.baseHref).toBe('/harbour/');
    expect(parts.styles.map(({ specifier }) => specifier)).toEqual(['a.css']);
    expect(parts.dropped.map((span) => slice(html, span))).toEqual(['<link rel=modulepreload href=m.js>']);
    expect(parts.files.map(({ specifier }) => specifier)).toEqual([
      'icon.png',
      'in-template.png',
      'no.png',
      's.svg#a',
      'p.jpg',
      'v.mp4',
    ]);
    const inCss = parts.css.flatMap(({ place, isAttribute, text, references }) =>
      references.map(({ start, end }) => (isAttribute ? text : html.slice(place.start)).slice(start, end)),
    );
    expect(inCss).toEqual(['b.css', 'c.png', 'd.png']);
    expect(slice(html, parts.files[2]!.attribute)).toBe('src="no.png"');
    expect(parts.links.map(({ specifier }) => specifier)).toEqual(['og.png', 'e.pdf']);
    expect(parts.classic.map(({ specifier }) => specifier)).toEqual(['old.js']);
    expect(parts.scripts.map(({ specifier, text }) => specifier ?? text)).toEqual(['let inline', 'src/main.ts']);
  });

  test.each([
    ['<!doctype html><head><title>x</title></head>', '<title>'],
    ['<!doctype html><html><body>x', '<body>'],
    ['<!doctype html><p>x', '<p>'],
    ['<h1>no doctype', '<h1>'],
    ['<!doctype html>\n<meta charset=utf-8><title>x</title><p>', '<meta'],
  ])('without or with a head has a place for its start: %s', (html, next) => {
    expect(html.slice(readPage(html).headStart).trimStart()).toMatch(new RegExp(`^${next}`));
  });

  test('has the start of its head behind its doctype, whatever stands before that', () => {
    for (const before of ['', '\n', '<!-- > -->\n'])
      for (const doctype of ['<!doctype html>', '<!DOCTYPE html SYSTEM "about:legacy-compat">']) {
        const html = `${before}${doctype}<p>text`;
        expect(html.slice(readPage(html).headStart)).toBe('<p>text');
      }
  });

  test('has the end of its head behind everything in it', () => {
    const html = '<!doctype html><meta charset=utf-8><title>x</title><p>text';
    expect(html.slice(readPage(html).headEnd)).toBe('<p>text');
  });
});

test('a style sheet is read for what it refers to, by place, whatever the notation', () => {
  const css = `@charset "utf-8";
@import "a.css" layer(base); @import url(b.css) screen; @IMPORT url('c.css');
.x { background: URL( "d.png" ), url(e.png) /* url(not.png) */; --v: url(f.png); src: url(data:font/x) , url(#id), url(https://elsewhere.example/g.png);
  background-image: image-set("h.png" 1x, url("i.png") 2x); content: "url(j.png)"; }`;
  const { references } = read(css);
  expect(references.map(({ kind, specifier }) => `${kind} ${specifier}`)).toEqual([
    'sheet a.css',
    'sheet b.css',
    'sheet c.css',
    'file d.png',
    'file e.png',
    'file f.png',
    'file h.png',
    'file i.png',
  ]);
  for (const { specifier, start, end } of references) expect(css.slice(start, end)).toBe(specifier);
  const escaped = read(String.raw`a { mask: url(a\ \(1\).png), url("it\'s\20 b\0000e9.png"), url('\110000\
') }`);
  expect(escaped.references.map(({ specifier }) => specifier)).toEqual(['a (1).png', "it's bé.png", '\ufffd']);
});

function read(css: string): StyleReferences {
  const found = readStyle(css, 'x.css');
  if ('references' in found) return found;
  throw new Error(found.message);
}

test.each([
  ['', true],
  ['@layer a; @import "b.css";', true],
  ['@import "b.css"; @charset "utf-8"; @unknown x {} /* p {} */', true],
  ['@import "b.css"; @layer a;', false],
  ['@namespace url(a);', false],
  ['p {}', false],
  ['@layer a {}', false],
  ['@media print {', false],
  ['p { a {', false],
])('an @import counts or is ignored as browsers do: behind %j', (before, counts) => {
  const { references, ignored } = read(
    `${before} @import "a.css";${'}'.repeat(/\{$/.test(before) ? before.split('{').length - 1 : 0)}`,
  );
  const list = counts ? references : ignored;
  expect(list.map(({ specifier }) => specifier)).toContain('a.css');
});
