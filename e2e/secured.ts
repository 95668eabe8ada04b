// A device behind TLS that shows a certificate of its own and asks whoever comes for one.

import { createHash, X509Certificate } from 'node:crypto';
import { type AddressInfo, connect } from 'node:net';
import { createServer, type Server } from 'node:tls';
import forge from 'node-forge';

export interface Pair {
  certificate: string;
  key: string;
}

/** A certificate that vouches for itself, and its key. */
export function pair(name: string): Pair {
  const keys = forge.pki.rsa.generateKeyPair(2048);
  const made = forge.pki.createCertificate();
  made.publicKey = keys.publicKey;
  made.serialNumber = '01';
  made.validity.notBefore = new Date(Date.now() - 86_400_000);
  made.validity.notAfter = new Date(Date.now() + 86_400_000);
  const subject = [{ name: 'commonName', value: name }];
  made.setSubject(subject);
  made.setIssuer(subject);
  made.setExtensions([{ name: 'basicConstraints', cA: true }]);
  made.sign(keys.privateKey, forge.md.sha256.create());
  const key = forge.pki.wrapRsaPrivateKey(forge.pki.privateKeyToAsn1(keys.privateKey));
  return { certificate: forge.pki.certificateToPem(made), key: forge.pki.privateKeyInfoToPem(key) };
}

/** As people compare it: pairs of digits with colons. */
export function fingerprint({ certificate }: Pair): string {
  const digits = createHash('sha256').update(new X509Certificate(certificate).raw).digest('hex').toUpperCase();
  return digits.match(/../g)?.join(':') ?? '';
}

/** Puts TLS before the device on a port; only who shows the client's certificate gets through. */
export async function secure(own: Pair, client: Pair, device: number): Promise<Server & { port: number }> {
  const options = { cert: own.certificate, key: own.key, ca: client.certificate, requestCert: true, rejectUnauthorized: true };
  const server = createServer(options, (stream) => {
    const inner = connect(device, '127.0.0.1');
    stream.pipe(inner).pipe(stream);
    for (const end of [stream, inner]) end.on('error', () => [stream, inner].map((s) => s.destroy()));
  });
  await new Promise<void>((ready) => server.listen(0, '127.0.0.1', ready));
  return Object.assign(server, { port: (server.address() as AddressInfo).port });
}
