import { networkInterfaces } from 'node:os';

/** The addresses of this machine in its networks. */
export function networkAddresses(): string[] {
  return Object.values(networkInterfaces())
    .flat()
    .filter((address) => address !== undefined && !address.internal && !address.address.startsWith('fe80'))
    .map((address) => address!.address);
}
