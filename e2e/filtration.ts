// A server that is not ours, on node-opcua: the filtration of the plant, with certificates and users of its own.

import { X509Certificate } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { connect, createServer, type Socket } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { OPCUACertificateManager } from 'node-opcua-certificate-manager';
import { OPCUAServer } from 'node-opcua-server';
import { StatusCodes } from 'node-opcua-status-code';
import { DataType, Variant, VariantArrayType } from 'node-opcua-variant';

export const USER = 'shift';
export const PASSWORD = 'salt';

/** How many plates the two filters have together; each has a pressure and a temperature. */
export const PLATES = 100;

/** A cable to a server that can be cut and mended. */
export async function cable(to: number, port: number) {
  const open = new Set<Socket>();
  let cut = false;
  const relay = createServer((outside) => {
    const inside = connect(to, '127.0.0.1');
    for (const end of [outside, inside]) {
      open.add(end);
      end.on('error', () => undefined);
      end.on('close', () => [outside, inside].map((one) => one.destroy()));
    }
    if (cut) outside.destroy();
    outside.pipe(inside).pipe(outside);
  });
  await new Promise<void>((ready) => relay.listen(port, '127.0.0.1', ready));
  return {
    url: `opc.tcp://127.0.0.1:${port}`,
    cut: () => {
      cut = true;
      for (const end of open) end.destroy();
      open.clear();
    },
    mend: () => {
      cut = false;
    },
    remove: () => new Promise<void>((done) => relay.close(() => done())),
  };
}

export interface Filtration {
  url: string;
  /** SHA-256 of its certificate, as somebody at the server would read it. */
  fingerprint(): string;
  /** Trusts a certificate of a client (DER), as somebody at the server would. */
  trust(certificate: Buffer): Promise<void>;
  /** Trusts a certificate that is a login (DER). */
  admit(certificate: Buffer): Promise<void>;
  /** Sets the turbidity behind the clarifier, which the server records. */
  set(turbidity: number, at?: Date): void;
  /** Ends it and starts it anew, with the same address and certificates. */
  restart(): Promise<void>;
  stop(): Promise<void>;
}

export async function start(port: number, many = 0): Promise<Filtration> {
  const folder = mkdtempSync(join(tmpdir(), 'filtration-'));
  const manager = async (name: string) => {
    const made = new OPCUACertificateManager({
      rootFolder: join(folder, name),
      automaticallyAcceptUnknownCertificate: false,
    });
    await made.initialize();
    return made;
  };
  const [clients, users] = [await manager('clients'), await manager('users')];
  let turbidity = 4.25;
  let show: (value: number, at: Date) => void;
  let server = await build();

  async function build() {
    const built = new OPCUAServer({
      port,
      hostname: '127.0.0.1',
      serverCertificateManager: clients,
      userCertificateManager: users,
      userManager: { isValidUser: (name: string, password: string) => name === USER && password === PASSWORD },
      serverInfo: { applicationUri: 'urn:brackmere:filtration', productUri: 'urn:brackmere:filtration' },
      serverCapabilities: { maxSessions: 20, operationLimits: { maxNodesPerRead: 400, maxMonitoredItemsPerCall: 300 } },
    });
    await built.initialize();
    const space = built.engine.addressSpace;
    if (!space) throw new Error('the server has no address space');
    const own = space.getOwnNamespace();
    const folderOf = (name: string, above: Parameters<typeof own.addFolder>[0]) => own.addFolder(above, { browseName: name });
    const clarifier = folderOf('Clarifier', space.rootFolder.objects);
    const number = (value: number) => new Variant({ dataType: DataType.Double, value });
    const measured = own.addAnalogDataItem({
      componentOf: clarifier,
      browseName: 'Turbidity',
      nodeId: 'ns=1;s=Clarifier.Turbidity',
      dataType: DataType.Double,
      engineeringUnitsRange: { low: 0, high: 50 },
      minimumSamplingInterval: 100,
      value: number(turbidity),
    });
    space.installHistoricalDataNode(measured, { maxOnlineValues: 1000 });
    show = (value, at) => measured.setValueFromSource(number(value), undefined, at);
    own.addMultiStateDiscrete({
      componentOf: clarifier,
      browseName: 'State',
      nodeId: 'ns=1;s=Clarifier.State',
      enumStrings: ['standing', 'settling', 'drawing off'],
      value: 1,
    });
    own.addVariable({
      componentOf: clarifier,
      browseName: 'Layers',
      nodeId: 'ns=1;s=Clarifier.Layers',
      dataType: DataType.Double,
      valueRank: 1,
      arrayDimensions: [4],
      value: new Variant({ dataType: DataType.Double, arrayType: VariantArrayType.Array, value: [1.5, 2.5, 3.5, 4.5] }),
    });
    const washing = own.addMethod(clarifier, {
      browseName: 'Wash',
      nodeId: 'ns=1;s=Clarifier.Wash',
      inputArguments: [
        { name: 'Minutes', dataType: DataType.UInt16 },
        { name: 'Program', dataType: DataType.String },
      ],
      outputArguments: [{ name: 'Told', dataType: DataType.String }],
    });
    washing.bindMethod((given, _, answer) => {
      const [minutes, program] = given.map(({ value }) => value);
      const told = new Variant({ dataType: DataType.String, value: `${program} for ${minutes} min` });
      answer(null, { statusCode: StatusCodes.Good, outputArguments: [told] });
    });
    const kind = own.addObjectType({ browseName: 'PlateType' });
    for (const filter of [1, 2]) {
      const above = folderOf(`Filter ${filter}`, space.rootFolder.objects);
      for (let plate = 1; plate <= PLATES / 2; plate++) {
        const here = own.addObject({ organizedBy: above, browseName: `Plate ${plate}`, typeDefinition: kind });
        for (const [name, value] of [
          ['Pressure', filter + plate / 100],
          ['Temperature', 40 + plate / 10],
        ] as const) {
          own.addVariable({
            componentOf: here,
            browseName: name,
            nodeId: `ns=1;s=Filter${filter}.Plate${plate}.${name}`,
            dataType: DataType.Double,
            value: number(value),
          });
        }
      }
    }
    const samples = many > 0 ? folderOf('Samples', space.rootFolder.objects) : undefined;
    for (let n = 1; samples && n <= many; n++) {
      const nodeId = `ns=1;s=Samples.${n}`;
      own.addVariable({ componentOf: samples, browseName: `Sample ${n}`, nodeId, dataType: DataType.Double, value: number(n) });
    }
    await built.start();
    return built;
  }

  return {
    url: `opc.tcp://127.0.0.1:${port}`,
    fingerprint: () => new X509Certificate(server.getCertificate()).fingerprint256,
    trust: async (certificate) => {
      await clients.trustCertificate(certificate);
    },
    admit: async (certificate) => {
      await users.trustCertificate(certificate);
    },
    set: (value, at = new Date()) => {
      turbidity = value;
      show(value, at);
    },
    restart: async () => {
      await server.shutdown(0);
      server = await build();
    },
    stop: async () => {
      await server.shutdown(0);
      await Promise.all([clients.dispose(), users.dispose()]);
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
