// What workers do. The page's one script runs in each; the first message tells which of these a worker is.

import { Engine } from '../engine';
import { STORED, decompressed, type FrameHeader } from '../reader/frames';
import type { Header } from '../reader/header';
import { unlock, unlockOpenToAll, type Keys, type Secret } from '../reader/keys';
import type { Helpers } from '../reader/stream';
import { Caller, answerCalls, type Ways } from './calls';
import { Desk } from './desk';
import { Saver } from './saver';

export type Role =
  | { role: 'reader'; module: WebAssembly.Module; helpers: MessagePort[]; saver: MessagePort }
  | { role: 'saver'; module: WebAssembly.Module; port: MessagePort }
  | { role: 'helper'; module: WebAssembly.Module; port: MessagePort }
  | { role: 'keys'; module: WebAssembly.Module };

/** Calls one of several helpers after the other. */
class Ports implements Helpers {
  private readonly callers: Caller[];
  private next = 0;

  constructor(ports: MessagePort[]) {
    this.callers = ports.map(port => new Caller(port));
  }

  get count(): number {
    return this.callers.length;
  }

  decompress(header: FrameHeader, payload: Uint8Array): Promise<Uint8Array> {
    if (header.codec === STORED) return Promise.resolve(payload);
    this.next = (this.next + 1) % this.callers.length;
    return this.callers[this.next]!.call('decompress', [header, payload], undefined, [payload.buffer]);
  }
}

export function becomeWorker(): void {
  const scope = self as unknown as DedicatedWorkerGlobalScope;
  scope.onmessage = ({ data }: MessageEvent<Role>) => {
    const engine = new Engine(data.module);
    if (data.role === 'reader') {
      answerCalls(scope, new Desk(engine, new Ports(data.helpers), new Caller(data.saver)).answers());
    } else if (data.role === 'saver') {
      answerCalls(data.port, new Saver(engine).answers());
    } else if (data.role === 'helper') {
      answerCalls(data.port, { decompress: (_: Ways, header: FrameHeader, payload: Uint8Array) => decompressed(header, payload, engine) });
    } else {
      answerCalls(scope, {
        openToAll: (_: Ways, header: Header): Promise<Keys | undefined> => unlockOpenToAll(header, engine),
        unlock: (_: Ways, header: Header, secret: Secret): Promise<Keys> => unlock(header, engine, secret),
      });
    }
  };
}
