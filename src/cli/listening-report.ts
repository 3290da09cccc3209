import type { Forwarder } from '../forward/forwarder.js';
import { networkAddresses } from '../server/http/addresses.js';
import type { EffectiveSettings } from '../settings/effective.js';
import { projectName } from './project-name.js';
import type { ListeningReport } from './report/reporter.js';

/** A server that listens, whatever it serves. */
export interface Listening {
  url: string;
  boundPort: number;
  forwarder: Forwarder;
  expectsBackendAt(port: number): boolean;
}

/** What is told of a server that listens. */
export function listeningReport(version: string, settings: EffectiveSettings, server: Listening): ListeningReport {
  const { root, routes, listen } = settings;
  const networks = listen.host === '0.0.0.0' || listen.host === '::' ? networkAddresses() : [];
  const isOther = listen.port !== 0 && server.boundPort !== listen.port;
  return {
    version,
    project: projectName(root),
    url: server.url,
    ...(networks.length > 0 ? { networkUrls: networks.map((address) => urlAt(server.url, address)) } : {}),
    port: server.boundPort,
    forwards: server.forwarder.rules.map(({ label, to }) => ({ label, origin: to.label })),
    routes,
    ...(isOther ? { wantedPort: listen.port, isForBackend: server.expectsBackendAt(listen.port) } : {}),
  };
}

/** The same URL at another address of this machine. */
export function urlAt(url: string, address: string): string {
  const at = new URL(url);
  at.hostname = address.includes(':') ? `[${address}]` : address;
  return at.href;
}
