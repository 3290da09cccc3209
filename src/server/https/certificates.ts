import { readFileSync } from 'node:fs';
import { createSecureContext } from 'node:tls';
import envPaths from 'env-paths';
import { VineError } from '../../core/problem/problem.js';
import { networkAddresses } from '../http/addresses.js';
import type { Certificate } from '../http/front-door.js';
import { localCertificate, trustCommands } from './authority.js';

/** Where a server is reached, and with whose certificate. */
export interface CertificateOptions {
  https: true | { key: string; certificate: string };
  host: string;
  names: readonly string[];
  /** Folder for the authority of this user; by default where the system keeps a user's data. */
  folder?: string;
}

/** A certificate with what the user should know of it. */
export interface FoundCertificate extends Certificate {
  notes: string[];
}

/** How often it's looked whether a certificate has to be renewed. */
export const lookForRenewalMs = 12 * 3_600_000;

/**
 * The certificate that settings ask for: the user's own, or one for the names and addresses under which the server is reached.
 *
 * @throws VineError `certificate-unusable`.
 */
export function certificateFor({ https, host, names, folder }: CertificateOptions): FoundCertificate {
  if (https !== true) return { ...ownCertificate(https), notes: [] };
  const everywhere = host === '0.0.0.0' || host === '::' ? networkAddresses() : [];
  const others = host === 'localhost' || host === '0.0.0.0' || host === '::' ? [] : [host];
  const all = ['localhost', '*.localhost', '127.0.0.1', '::1', ...others, ...everywhere, ...names];
  const { key, cert, authorityFile, isNewAuthority } = localCertificate(folder ?? dataFolder(), [...new Set(all)]);
  const notes = isNewAuthority
    ? [`browsers warn until they trust your new certificate authority, ${authorityFile}`, ...trustCommands(authorityFile)]
    : [];
  return { key, cert, notes };
}

/** Where what belongs to the user and not to a project is kept. */
function dataFolder(): string {
  return process.env.VINE_SPARK_DATA ?? envPaths('vine-spark', { suffix: '' }).data;
}

function ownCertificate({ key, certificate }: { key: string; certificate: string }): Certificate {
  try {
    const own = { key: readFileSync(key, 'utf8'), cert: readFileSync(certificate, 'utf8') };
    createSecureContext(own);
    return own;
  } catch (error) {
    const message = `The certificate of the setting listen.https cannot be used: ${(error as Error).message}`;
    const hint = 'Both files have to be there, in PEM, without a passphrase, and fit together.';
    throw new VineError({ code: 'certificate-unusable', message, hint }, { cause: error });
  }
}
