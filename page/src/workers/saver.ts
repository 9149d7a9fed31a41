// The saver's worker: it writes what the reader has verified, beside the reading, and makes the receipt of all of it.

import type { Engine } from '../engine';
import { Receipt, type ReceiptOf } from '../reader/codes';
import { zeros } from '../reader/digest';
import { ChosenFile, InMemory, StoredFile, type Output } from '../ways_out/output';
import { InFolder, PlainFile, type Maker, type Outgoing } from '../ways_out/sinks';
import { ZipArchive } from '../ways_out/zip';
import type { Answers } from './calls';

/** Where what is saved goes. */
export type Target = { file: FileSystemFileHandle } | { folder: FileSystemDirectoryHandle } | { download: 'stored' | 'memory' };

export interface Order {
  target: Target;
  isZip: boolean;
  /** What a new folder is called. */
  name: string;
  /** Where everything comes out, what the receipt is of. */
  receipt?: ReceiptOf;
}

/** An entry begins, again with a content that came before or not; or it ends, or has bytes of a frame, from one place in it to another, or zeros. */
export type Step = { begin: Outgoing; again: boolean } | { from: number; to: number } | { zeros: number } | 'end';

export interface SavedTo {
  /** Where it was not written to a place that was chosen. */
  blob?: Blob;
  receipt?: string;
}

interface Work {
  output?: Output;
  maker: Maker;
  receipt?: { of: ReceiptOf; receipt: Receipt };
}

export class Saver {
  private work?: Work;
  /** The content that is written now came before. */
  private isAgain = false;
  /** Calls come while others are at work: each waits for its turn. */
  private turn: Promise<unknown> = Promise.resolve();

  constructor(private readonly engine: Engine) {}

  answers(): Answers {
    const inTurn = <V extends unknown[]>(act: (...values: V) => Promise<unknown>) => (_: unknown, ...values: V) => {
      const outcome = this.turn.then(() => act(...values));
      this.turn = outcome.catch(() => {});
      return outcome;
    };
    return {
      begin: inTurn((order: Order) => this.begin(order)),
      take: inTurn((frame: Uint8Array, steps: Step[]) => this.take(frame, steps)),
      finish: inTurn(() => this.finish()),
      abort: inTurn(async () => this.work?.output?.abort().catch(() => {})),
    };
  }

  private async begin({ target, isZip, name, receipt }: Order): Promise<void> {
    const making = receipt && { of: receipt, receipt: new Receipt(this.engine, receipt.key) };
    if ('folder' in target) {
      this.work = { maker: await InFolder.new(target.folder, name), receipt: making };
      return;
    }
    const output = await outputOf(target);
    this.work = { output, maker: isZip ? new ZipArchive(output, this.engine) : new PlainFile(output), receipt: making };
  }

  private async take(frame: Uint8Array, steps: Step[]): Promise<void> {
    const { maker, receipt } = this.work!;
    for (const step of steps) {
      if (step === 'end') await maker.end();
      else if ('begin' in step) {
        this.isAgain = step.again;
        await maker.begin(step.begin);
      } else if ('zeros' in step) {
        for (const piece of zeros(step.zeros)) await maker.data(piece);
      } else {
        const bytes = frame.subarray(step.from, step.to);
        // The receipt is of what is stored, each once.
        if (!this.isAgain) receipt?.receipt.hasher.take(bytes);
        await maker.data(bytes);
      }
    }
  }

  private async finish(): Promise<SavedTo> {
    const { maker, output, receipt } = this.work!;
    await maker.finish();
    const blob = await output?.close();
    return { blob, receipt: receipt?.receipt.finish(receipt.of) };
  }
}

function outputOf(target: Exclude<Target, { folder: unknown }>): Promise<Output> | Output {
  if ('file' in target) return ChosenFile.open(target.file);
  return target.download === 'stored' ? StoredFile.open().catch(() => new InMemory()) : new InMemory();
}
