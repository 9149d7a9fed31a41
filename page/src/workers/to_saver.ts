// The reader's end of the way to the saver: what a frame brings goes over at once, with the frame's own bytes.

import type { Sink } from '../reader/archive';
import type { Listed } from '../reader/index_pages';
import type { Caller } from './calls';
import type { Order, SavedTo, Step } from './saver';

/** Frames that may wait for the saver. */
const MAX_WAITING = 3;

export class ToSaver implements Sink {
  private steps: Step[] = [];
  private readonly waiting: Promise<unknown>[] = [];

  private constructor(private readonly saver: Caller, private readonly nameOf: (entry: Listed) => string) {}

  static async begin(saver: Caller, order: Order, nameOf: (entry: Listed) => string): Promise<ToSaver> {
    await saver.call('begin', [order]);
    return new ToSaver(saver, nameOf);
  }

  begin(entry: Listed): void {
    const { kind, size, mode, seconds, target, owner } = entry;
    // What is handed over as a part of something is copied with all of that.
    this.steps.push({ begin: { name: this.nameOf(entry), kind, size, mode, seconds, target: target.slice() }, again: owner !== undefined });
  }

  data(bytes: Uint8Array): void {
    this.steps.push({ from: bytes.byteOffset, to: bytes.byteOffset + bytes.length });
  }

  hole(bytes: number): void {
    this.steps.push({ zeros: bytes });
  }

  end(): void {
    this.steps.push('end');
  }

  async frame(payload: Uint8Array): Promise<void> {
    if (this.waiting.length >= MAX_WAITING) await this.waiting.shift();
    const bytes = new Uint8Array(payload.buffer);
    const taken = this.saver.call('take', [bytes, this.steps], undefined, [bytes.buffer]);
    this.steps = [];
    // Whoever waits for it later is told.
    taken.catch(() => {});
    this.waiting.push(taken);
  }

  async finish(): Promise<SavedTo> {
    await this.frame(new Uint8Array(0));
    await Promise.all(this.waiting);
    return this.saver.call<SavedTo>('finish', []);
  }

  abort(): Promise<void> {
    return this.saver.call('abort', []);
  }
}
