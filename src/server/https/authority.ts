import { createHash, createPrivateKey, generateKeyPairSync, randomBytes, X509Certificate } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { isIP } from 'node:net';
import { join } from 'node:path';
import type Forge from 'node-forge';
import { lazily } from '../../core/lazily.js';
import { VineError } from '../../core/problem/problem.js';
import type { Certificate } from '../http/front-door.js';

const forge = lazily<typeof Forge>('node-forge');

/** What the authority is called, so that it's found again among those of a system. */
const authorityName = 'Vine Spark local authority';
const authorityDays = 3650;
/** Apple's systems accept no more than 825 days; short ones are renewed by themselves. */
const certificateDays = 90;
const renewDaysBefore = 30;
const dayMs = 86_400_000;

/** A certificate and its private key as files in PEM. */
interface Pair {
  key: string;
  certificate: string;
}

/** Certificates of this machine, and whether their authority was made just now, so that nobody can trust it yet. */
export interface LocalCertificate extends Certificate {
  /** Absolute path of the authority's certificate, for whoever is to trust it. */
  authorityFile: string;
  isNewAuthority: boolean;
}

/**
 * A certificate for some names and addresses, by an authority of this user alone, which is made once and kept in a folder that
 * nobody else may read. Both are made anew before they end.
 *
 * @throws VineError `certificate-unusable` where the folder can't be written.
 */
export function localCertificate(folder: string, names: readonly string[], now = Date.now()): LocalCertificate {
  try {
    makePrivate(folder);
    const authorityFile = join(folder, 'authority.pem');
    const authority = { key: join(folder, 'authority-key.pem'), certificate: authorityFile };
    let own = readPair(authority, now);
    const isNewAuthority = own === undefined;
    own ??= keep(authority, makeAuthority(now));
    const id = createHash('sha256').update(names.join('\n')).digest('hex').slice(0, 16);
    const files = { key: join(folder, `${id}-key.pem`), certificate: join(folder, `${id}.pem`) };
    const known = readPair(files, now);
    const isOurs =
      known !== undefined && new X509Certificate(known.certificate).checkIssued(new X509Certificate(own.certificate));
    const pair = isOurs ? known : keep(files, makeCertificate(names, own, now));
    return { key: pair.key, cert: `${pair.certificate}${own.certificate}`, authorityFile, isNewAuthority };
  } catch (error) {
    const message = `The local certificate authority cannot be kept in ${folder} (${(error as Error).message}).`;
    const hint = 'Make the folder writable, or give your own files: listen: { https: { key, certificate } }.';
    throw new VineError({ code: 'certificate-unusable', message, hint }, { cause: error });
  }
}

/** The folder is the user's own: whoever reads the authority's key can pass for any site. */
function makePrivate(folder: string): void {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  if (process.platform !== 'win32' && (statSync(folder).mode & 0o077) !== 0) chmodSync(folder, 0o700);
}

/** A pair that is kept, fits together and lasts for a while; `undefined` where it has to be made. */
function readPair({ key, certificate }: Pair, now: number): Pair | undefined {
  if (!existsSync(key) || !existsSync(certificate)) return undefined;
  try {
    const pair = { key: readFileSync(key, 'utf8'), certificate: readFileSync(certificate, 'utf8') };
    const read = new X509Certificate(pair.certificate);
    const lasts = Date.parse(read.validTo) - now > renewDaysBefore * dayMs && Date.parse(read.validFrom) <= now;
    return lasts && read.checkPrivateKey(createPrivateKey(pair.key)) ? pair : undefined;
  } catch {
    return undefined; // damaged: it's made anew
  }
}

function keep(files: Pair, pair: Pair): Pair {
  for (const name of ['key', 'certificate'] as const) {
    // Never half written, and never readable by others, not even for a moment.
    const aside = `${files[name]}.${process.pid}.part`;
    writeFileSync(aside, pair[name], { mode: 0o600 });
    renameSync(aside, files[name]);
  }
  return pair;
}

function makeAuthority(now: number): Pair {
  const name = [
    { name: 'commonName', value: `${authorityName} ${randomBytes(3).toString('hex')}` },
    { name: 'organizationName', value: 'Vine Spark' },
  ];
  return makePair(now, authorityDays, (certificate, keys) => {
    certificate.setSubject(name);
    certificate.setIssuer(name);
    certificate.setExtensions([
      { name: 'basicConstraints', cA: true, pathLenConstraint: 0, critical: true },
      { name: 'keyUsage', keyCertSign: true, cRLSign: true, critical: true },
      { name: 'subjectKeyIdentifier' },
    ]);
    certificate.sign(keys.privateKey, forge().md.sha256.create());
  });
}

function makeCertificate(names: readonly string[], authority: Pair, now: number): Pair {
  const { pki, md } = forge();
  const issuer = pki.certificateFromPem(authority.certificate);
  const altNames = names.map((name) => (isIP(name) ? { type: 7, ip: name } : { type: 2, value: name }));
  return makePair(now, certificateDays, (certificate) => {
    certificate.setSubject([{ name: 'commonName', value: names[0]! }]);
    certificate.setIssuer(issuer.subject.attributes);
    certificate.setExtensions([
      { name: 'basicConstraints', cA: false, critical: true },
      { name: 'keyUsage', digitalSignature: true, keyEncipherment: true, critical: true },
      { name: 'extKeyUsage', serverAuth: true },
      { name: 'subjectAltName', altNames },
      { name: 'authorityKeyIdentifier', keyIdentifier: issuer.generateSubjectKeyIdentifier().getBytes() },
    ]);
    certificate.sign(pki.privateKeyFromPem(authority.key), md.sha256.create());
  });
}

function makePair(
  now: number,
  days: number,
  fill: (certificate: Forge.pki.Certificate, keys: { privateKey: Forge.pki.rsa.PrivateKey }) => void,
): Pair {
  const { pki } = forge();
  // The engine makes keys a hundred times as fast.
  const { privateKey } = generateKeyPairSync('rsa', { modulusLength: 2048 });
  const key = privateKey.export({ type: 'pkcs8', format: 'pem' }).toString();
  const own = pki.privateKeyFromPem(key);
  const certificate = pki.createCertificate();
  certificate.publicKey = pki.setRsaPublicKey(own.n, own.e);
  // A positive number (RFC 5280, 4.1.2.2).
  certificate.serialNumber = `01${randomBytes(15).toString('hex')}`;
  // Clocks of machines differ.
  certificate.validity.notBefore = new Date(now - dayMs);
  certificate.validity.notAfter = new Date(now + days * dayMs);
  fill(certificate, { privateKey: own });
  return { key, certificate: pki.certificateToPem(certificate) };
}

/** How the user's system is told to trust the authority, as commands. */
export function trustCommands(file: string, platform: NodeJS.Platform = process.platform): string[] {
  if (platform === 'darwin')
    return [`on this system: security add-trusted-cert -r trustRoot -k ~/Library/Keychains/login.keychain-db '${file}'`];
  if (platform === 'win32') return [`on this system: certutil -user -addstore Root "${file}"`];
  return [
    `in Chromium (libnss3-tools): certutil -d sql:$HOME/.pki/nssdb -A -t C,, -n '${authorityName}' -i '${file}'`,
    `in programs: sudo cp '${file}' /usr/local/share/ca-certificates/vine-spark.crt && sudo update-ca-certificates`,
  ];
}
