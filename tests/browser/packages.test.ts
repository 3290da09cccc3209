import { expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { launchBrowser, openPage } from '../support/browser.js';
import { serveNatively } from '../support/native.js';
import { Program, runProgram } from '../support/program.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** Each package with an expression that uses it and what that must give. */
const uses: [imports: string, expression: string, expected: unknown][] = [
  [`import _ from 'lodash';`, `_.chunk([1, 2, 3], 2).length`, 2],
  [`import { sortBy } from 'lodash-es';`, `sortBy([3, 1]).join()`, '1,3'],
  [`import dayjs from 'dayjs';\nimport utc from 'dayjs/plugin/utc';`, `dayjs.extend(utc) && dayjs.utc(0).year()`, 1970],
  [`import axios, { AxiosError } from 'axios';`, `[typeof axios.get, AxiosError.name].join()`, 'function,AxiosError'],
  [`import { validate, v4 } from 'uuid';`, `validate(v4())`, true],
  [`import { nanoid } from 'nanoid';`, `nanoid().length`, 21],
  [`import clsx from 'clsx';`, `clsx('a', { b: true })`, 'a b'],
  [`import classNames from 'classnames';`, `classNames('a', { b: true })`, 'a b'],
  [
    `import { MemoryRouter, Route, Routes } from 'react-router';`,
    `html(<MemoryRouter initialEntries={['/berths']}><Routes><Route path="berths" element={<i>b</i>} /></Routes></MemoryRouter>)`,
    '<i>b</i>',
  ],
  [`import { create } from 'zustand';`, `create(() => ({ tide: 4 })).getState().tide`, 4],
  [`import { produce } from 'immer';`, `produce({ a: [1] }, (draft) => { draft.a.push(2); }).a.length`, 2],
  [
    `import { QueryClient, QueryClientProvider } from '@tanstack/react-query';`,
    `html(<QueryClientProvider client={new QueryClient()}>q</QueryClientProvider>)`,
    'q',
  ],
  [`import { line } from 'd3-shape';`, `line()([[0, 0], [1, 2]])`, 'M0,0L1,2'],
  [
    `import { map, of } from 'rxjs';`,
    `(() => { let seen; of(2).pipe(map((n) => n * 2)).subscribe((n) => { seen = n; }); return seen; })()`,
    4,
  ],
  [
    `import { combineReducers } from 'redux';`,
    `Object.keys(combineReducers({ a: (state = 1) => state })(undefined, { type: 'x' })).join()`,
    'a',
  ],
  [
    `import { configureStore, createSlice } from '@reduxjs/toolkit';`,
    `configureStore({ reducer: createSlice({ name: 's', initialState: 5, reducers: {} }).reducer }).getState()`,
    5,
  ],
  [`import * as R from 'ramda';`, `R.sum(R.range(0, 4))`, 6],
  [
    `import styled from 'styled-components';`,
    `html((({ B }) => <B>s</B>)({ B: styled.b\`color: red\` })).replace(/ class="[^"]*"/, '')`,
    '<b>s</b>',
  ],
  [`import { css } from '@emotion/react';`, `typeof css({ color: 'red' }).name`, 'string'],
  [`import { h, options } from 'preact';`, `[h('i', null).type, typeof options].join()`, 'i,object'],
  [
    `import { autorun, observable } from 'mobx';`,
    `(() => { const o = observable({ n: 1 }); let seen; autorun(() => { seen = o.n; }); o.n = 2; return seen; })()`,
    2,
  ],
  [`import i18next from 'i18next';`, `typeof i18next.t`, 'function'],
  [
    `import { useForm } from 'react-hook-form';`,
    `html((({ F }) => <F />)({ F: () => <b>{typeof useForm().register}</b> }))`,
    '<b>function</b>',
  ],
  [`import { marked } from 'marked';`, `marked.parse('# Tide').trim()`, '<h1>Tide</h1>'],
  [`import DOMPurify from 'dompurify';`, `DOMPurify.sanitize('<b onclick=x>q</b>')`, '<b>q</b>'],
  [`import $ from 'jquery';`, `$('<p>q</p>').text()`, 'q'],
  [`import qs from 'qs';`, `qs.stringify({ a: [1] })`, 'a%5B0%5D=1'],
  [`import BigNumber from 'bignumber.js';`, `new BigNumber(0.1).plus(0.2).toString()`, '0.3'],
  [`import { parse } from 'graphql';`, `parse('{ tide }').kind`, 'Document'],
  [`import PropTypes from 'prop-types';`, `typeof PropTypes.string`, 'function'],
  [`import { __rest } from 'tslib';`, `Object.keys(__rest({ a: 1, b: 2 }, ['a'])).join()`, 'b'],
  [`import L from 'leaflet';\nimport 'leaflet/dist/leaflet.css';`, `L.latLng(1, 2).lng`, 2],
];

test(`${uses.length} popular packages of every module format run without an error, served, and built in the long run`, async () => {
  const browser = await launchBrowser();
  const workspace = Workspace.with(
    {
      'package.json': '{ "name": "quay", "dependencies": { "react": "*" } }',
      'index.html':
        '<!doctype html><link rel="icon" href="data:,"><div id="app"></div><script type="module" src="main.jsx"></script>',
      'main.jsx': `import { renderToStaticMarkup as html } from 'react-dom/server';
import { createRoot } from 'react-dom/client';
import { StrictMode } from 'react';
${uses.map(([imports]) => imports).join('\n')}
const results = [${uses.map(([, expression]) => `() => ${expression}`).join(',\n')}].map((use) => { try { return use(); } catch (error) { return String(error); } });
createRoot(document.getElementById('app')).render(<StrictMode><pre id="results">{JSON.stringify(results)}</pre></StrictMode>);
`,
    },
    { packages: true },
  );
  const program = await Program.serve(workspace.root);
  expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  await expectResults(browser, program.url);
  await program.stop();
  if (isLong) await expectBuild(browser, workspace);
  await browser.close();
  workspace.dispose();
}, 180_000);

async function expectBuild(browser: Browser, workspace: Workspace): Promise<void> {
  const built = await runProgram(workspace.root, ['build', '--no-cache', '--source-maps', 'off']);
  expect([built.code, built.stderr]).toEqual([0, expect.stringMatching(/^! stylis is in the build in 2 versions[^!✖]*$/)]);
  const { url, close } = await serveNatively(workspace.path('dist'));
  await expectResults(browser, `${url}index.html`);
  close();
}

/** Opens the page and compares what every package gave; nothing is said in the console. */
async function expectResults(browser: Browser, url: string): Promise<void> {
  const { page, errors } = await openPage(browser, url);
  await page
    .locator('#results')
    .waitFor({ timeout: 10_000 })
    .catch(() => undefined);
  expect(errors).toEqual([]);
  const results = JSON.parse((await page.textContent('#results'))!) as unknown[];
  expect(Object.fromEntries(results.map((result, index) => [uses[index]![0], result]))).toEqual(
    Object.fromEntries(uses.map(([imports, , expected]) => [imports, expected])),
  );
  await page.context().close();
}
