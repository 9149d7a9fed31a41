// The workers that the page hires: one that reads, a few that decompress, one that saves, and for each try of a password one that is gone
// afterwards, with all its memory.

import { compileEngine } from './engine';
import { Caller } from './workers/calls';
import type { Role } from './workers/roles';

const MAX_HELPERS = 4;

export class Crew {
  /** Waits for the next try, so that nobody waits for it to start. */
  private keyWorker: Worker;

  private constructor(private readonly address: string, private readonly module: WebAssembly.Module, readonly reader: Caller) {
    this.keyWorker = this.hireForKeys();
  }

  /** From the page's own script, which is the workers' too. */
  static async hire(script: string): Promise<Crew> {
    const address = URL.createObjectURL(new Blob([script], { type: 'text/javascript' }));
    const module = await compileEngine();
    const cores = navigator.hardwareConcurrency || 2;
    const beside = (role: 'helper' | 'saver') => {
      const { port1, port2 } = new MessageChannel();
      put(new Worker(address), { role, module, port: port1 }, [port1]);
      return port2;
    };
    const helpers = Array.from({ length: Math.max(1, Math.min(MAX_HELPERS, cores)) }, () => beside('helper'));
    const saver = beside('saver');
    const reader = new Worker(address);
    put(reader, { role: 'reader', module, helpers, saver }, [...helpers, saver]);
    return new Crew(address, module, new Caller(reader));
  }

  private hireForKeys(): Worker {
    const worker = new Worker(this.address);
    put(worker, { role: 'keys', module: this.module });
    return worker;
  }

  /** Has a worker of its own compute something about keys; it is ended then, with all its memory. */
  async withKeys<T>(name: string, ...values: unknown[]): Promise<T> {
    const worker = this.keyWorker;
    try {
      return await new Caller(worker).call<T>(name, values);
    } finally {
      worker.terminate();
      this.keyWorker = this.hireForKeys();
    }
  }
}

function put(worker: Worker, role: Role, transfer: Transferable[] = []): void {
  worker.postMessage(role, transfer);
}
