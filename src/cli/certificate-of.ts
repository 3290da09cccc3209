import type { Certificate } from '../server/http/front-door.js';
import type { EffectiveSettings } from '../settings/effective.js';

/** A certificate for a server, and what the user should know of it. */
interface ServedCertificate {
  given: { certificate?: Certificate };
  notes: readonly string[];
  /** Gives new ones in time, as long as the process runs. */
  keepFresh(renew: (certificate: Certificate) => void): void;
}

/**
 * The certificate that the settings ask for; none where they ask for plain HTTP.
 *
 * @throws VineError `certificate-unusable`.
 */
export async function certificateOf({ listen }: EffectiveSettings): Promise<ServedCertificate> {
  const { https, host, names } = listen;
  if (https === false) return { given: {}, notes: [], keepFresh() {} };
  const { certificateFor, lookForRenewalMs } = await import('../server/https/certificates.js');
  const find = () => certificateFor({ https, host, names });
  const { notes, ...certificate } = find();
  let cert = certificate.cert;
  const keepFresh = (renew: (certificate: Certificate) => void) => {
    setInterval(() => {
      const { notes: _, ...fresh } = find();
      if (fresh.cert !== cert) renew(fresh);
      cert = fresh.cert;
    }, lookForRenewalMs).unref();
  };
  return { given: { certificate }, notes, keepFresh };
}
