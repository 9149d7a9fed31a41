// The inner stream (docs/format.md 3): frames one after another out of cells, read ahead, decompressed by helpers, and given in
// order.

import { Parts, areZeros } from './bytes';
import { NO_MARK, type Cell, type Cells } from './cells';
import { FRAME_HEADER_BYTES, readFrameHeader, type FrameHeader } from './frames';
import { malformed } from './refusal';
import { BATCH_CELLS } from './volumes';

/** What decompresses frames, side by side. */
export interface Helpers {
  readonly count: number;
  /** Takes the payload's buffer for itself. */
  decompress(header: FrameHeader, payload: Uint8Array): Promise<Uint8Array>;
}

export interface Frame {
  kind: number;
  /** Where it begins in the inner stream, and its length, header and all. */
  at: number;
  length: number;
  /** Its payload before compression; empty where it is passed over. */
  payload: Uint8Array;
}

/** Frames that wait or are decompressed, beyond two for each helper. */
const AHEAD = 2;

/** Bytes of the inner stream from some place on. */
class Bytes {
  /** Of cells that were opened and not taken yet. */
  private readonly parts = new Parts();
  private nextCell: number;
  private pending?: Promise<Cell[]>;
  private readonly marks: Marks;

  constructor(private readonly cells: Cells, private at: number, private readonly end: number, private readonly goOn: () => void) {
    this.nextCell = Math.floor(at / cells.partBytes);
    this.marks = new Marks(cells.partBytes, at);
  }

  get place(): number {
    return this.at;
  }

  /** Cells up to the one in which the stretch ends; the next ones are opened while these are looked at. */
  private open(): Promise<Cell[]> {
    const last = Math.ceil(this.end / this.cells.partBytes);
    return this.cells.open(this.nextCell, Math.max(1, Math.min(BATCH_CELLS, last - this.nextCell)));
  }

  private async more(): Promise<void> {
    this.goOn();
    const opened = await (this.pending ?? this.open());
    this.pending = undefined;
    for (const { mark, part } of opened) {
      this.marks.told(this.nextCell, mark);
      const skipped = Math.max(0, this.at + this.parts.length - this.nextCell * this.cells.partBytes);
      this.parts.push(part.subarray(skipped));
      this.nextCell += 1;
    }
    if (this.nextCell * this.cells.partBytes < this.end) {
      this.pending = this.open();
      // Whoever waits for it later is told; until then nobody has to be.
      this.pending.catch(() => {});
    }
  }

  /** Bytes in a buffer of their own. */
  async take(length: number): Promise<Uint8Array> {
    if (this.at + length > this.end) throw malformed('the stream ends within a frame');
    while (this.parts.length < length) await this.more();
    this.at += length;
    return this.parts.take(length);
  }

  beginsFrame(): void {
    this.marks.begins(this.at);
  }

  ends(): void {
    this.marks.end();
  }
}

/** Holds what each cell says of the first frame that begins in it against where one does. */
class Marks {
  private readonly waiting: { cell: number; mark: number }[] = [];
  private begun?: { cell: number; mark: number };
  private readonly unknown: number;

  constructor(private readonly partBytes: number, from: number) {
    // In a cell of which only a part is read, an earlier frame may begin.
    this.unknown = from % partBytes === 0 ? -1 : Math.floor(from / partBytes);
  }

  told(cell: number, mark: number): void {
    if (cell === this.unknown) return;
    // A frame that begins with a cell is known before that is read.
    if (cell !== this.begun?.cell) this.waiting.push({ cell, mark });
    else if (mark !== this.begun.mark) throw malformed('a cell\'s mark');
  }

  begins(at: number): void {
    const cell = Math.floor(at / this.partBytes);
    if (cell === this.begun?.cell) return;
    this.begun = { cell, mark: at % this.partBytes };
    this.settle(cell);
    if (this.waiting[0]?.cell === cell && this.waiting.shift()!.mark !== this.begun.mark) throw malformed('a cell\'s mark');
  }

  /** No frame begins in a cell before this one any more. */
  private settle(cell: number): void {
    while (this.waiting.length > 0 && this.waiting[0]!.cell < cell) {
      if (this.waiting.shift()!.mark !== NO_MARK) throw malformed('a cell\'s mark');
    }
  }

  end(): void {
    this.settle(Infinity);
  }
}

export class Stream {
  constructor(private readonly cells: Cells, private readonly helpers: Helpers, private readonly goOn: () => void) {}

  /** The frames from one place up to another, in order. Whoever stops early just stops: what cannot be read ahead is told when
   * it is its turn. */
  async *frames(from: number, to: number): AsyncGenerator<Frame> {
    const bytes = new Bytes(this.cells, from, to, this.goOn);
    const waiting: Promise<Frame>[] = [];
    let isEnded = bytes.place >= to;
    while (waiting.length > 0 || !isEnded) {
      while (!isEnded && waiting.length < 2 * this.helpers.count + AHEAD) {
        const next = await this.next(bytes).catch((error: unknown) => ({ frame: Promise.reject<Frame>(error), failed: true }));
        next.frame.catch(() => {});
        waiting.push(next.frame);
        isEnded = next.failed || bytes.place >= to;
      }
      yield await waiting.shift()!;
    }
    if (from === 0) bytes.ends();
  }

  /** Reads a frame, and has it decompressed. */
  private async next(bytes: Bytes): Promise<{ frame: Promise<Frame>; failed: boolean }> {
    const at = bytes.place;
    bytes.beginsFrame();
    const header = readFrameHeader(await bytes.take(FRAME_HEADER_BYTES));
    const stored = await bytes.take(header.storedBytes);
    const payload = header.passedOver ? Promise.resolve(new Uint8Array(0)) : this.helpers.decompress(header, stored);
    const [kind, length] = [header.passedOver ? 0 : header.kind, FRAME_HEADER_BYTES + header.storedBytes];
    return { frame: payload.then(payload => ({ kind, at, length, payload })), failed: false };
  }

  /** One frame of a kind, of a length that was told elsewhere. */
  async frame(at: number, length: number, kind: number): Promise<Uint8Array> {
    for await (const frame of this.frames(at, at + length)) {
      if (frame.kind !== kind || frame.length !== length) break;
      return frame.payload;
    }
    throw malformed('a frame is not the one that was told');
  }

  /** Behind the last frame there are only zeros up to the tail. */
  async endsIn(innerBytes: number, tailBytes: number): Promise<void> {
    const { partBytes, count } = this.cells;
    for (let cell = Math.floor(innerBytes / partBytes); cell < count; ) {
      this.goOn();
      for (const { mark, part } of await this.cells.open(cell, BATCH_CELLS)) {
        const from = Math.max(0, innerBytes - cell * partBytes);
        const to = part.length - (cell === count - 1 ? tailBytes : 0);
        if (!areZeros(part.subarray(from, to))) throw malformed('something behind the last frame');
        if (cell * partBytes >= innerBytes && mark !== NO_MARK) throw malformed('a cell\'s mark');
        cell += 1;
      }
    }
  }
}
