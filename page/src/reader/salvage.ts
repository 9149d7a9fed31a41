// Salvage (docs/format.md 5): every file that lies wholly in the cells that are here, each of which is opened by itself.

import type { Engine } from '../engine';
import { Fields, Parts, areEqual, areZeros } from './bytes';
import { NO_MARK, type Cell, type Cells } from './cells';
import { ContentDigest, HOLE_UNIT } from './digest';
import { CONTENT, FRAME_HEADER_BYTES, readFrameHeader } from './frames';
import type { Listed } from './index_pages';
import { DATA_RECORD, END, ENTRY, FILE, HOLE, readDescription, readEntry, readHole, recordsIn, type Entry, type Record } from './records';
import { Refusal } from './refusal';
import type { Helpers } from './stream';
import { BATCH_CELLS } from './volumes';

export interface Salvaged {
  whole: Listed[];
  /** What is known to be lost; nobody can tell without the index. */
  lost?: Listed[];
}

/** Goes through all that is here. With the index, what is whole has to equal what that says. */
export async function salvage(cells: Cells, engine: Engine, helpers: Helpers, index: Listed[] | undefined, told: (bytes: number) => void, goOn: () => void): Promise<Salvaged> {
  const scan = new Scan(engine);
  let at = 0;
  /** None until a frame begins whose beginning is here. */
  let parts: Parts | undefined;
  for await (const [number, cell] of eachCell(cells, goOn)) {
    told(cells.volumes.header.cellBytes);
    if (!cell) {
      parts = undefined;
      scan.gap();
      continue;
    }
    if (parts) {
      parts.push(cell.part);
    } else if (cell.mark !== NO_MARK) {
      at = number * cells.partBytes + cell.mark;
      parts = new Parts();
      parts.push(cell.part.subarray(cell.mark));
    }
    while (parts && parts.length >= FRAME_HEADER_BYTES) {
      const beginning = parts.peek(FRAME_HEADER_BYTES);
      // Behind the last frame there are zeros.
      if (areZeros(beginning)) break;
      const header = readFrameHeader(beginning);
      const length = FRAME_HEADER_BYTES + header.storedBytes;
      if (parts.length < length) break;
      parts.take(FRAME_HEADER_BYTES);
      const stored = parts.take(header.storedBytes);
      if (header.kind === CONTENT) scan.frame(await helpers.decompress(header, stored), at);
      at += length;
    }
  }
  return index ? byIndex(index, scan.whole) : { whole: [...scan.whole.values()] };
}

async function* eachCell(cells: Cells, goOn: () => void): AsyncGenerator<[number, Cell | undefined]> {
  for (let number = 0; number < cells.count; ) {
    goOn();
    for (const cell of await openOrNone(cells, number)) yield [number++, cell];
  }
}

/** Cells from one on; one that is none where that cannot be had. */
async function openOrNone(cells: Cells, number: number): Promise<(Cell | undefined)[]> {
  try {
    return await cells.open(number, BATCH_CELLS);
  } catch (error) {
    if (error instanceof Refusal && error.reason !== 'malformed') return [undefined];
    throw error;
  }
}

function byIndex(index: Listed[], found: Map<string, Listed>): Salvaged {
  const [whole, lost]: [Listed[], Listed[]] = [[], []];
  for (const entry of index) {
    const file = entry.owner ?? entry;
    const here = found.get(`${file.frameAt}:${file.recordAt}`);
    const isSame = here && areEqual(here.raw, file.raw) && areEqual(here.rawDescription, file.rawDescription);
    (entry.kind !== FILE || entry.size === 0 || isSame ? whole : lost).push(entry);
  }
  return { whole, lost };
}

/** A file of which all came so far. */
interface Open {
  entry: Entry;
  raw: Uint8Array;
  frameAt: number;
  recordAt: number;
  size: number;
  holes: number;
  inUnits: boolean;
}

/** Looks for files that begin, go on without a gap and end. */
class Scan {
  readonly whole = new Map<string, Listed>();
  private open?: Open;
  private readonly digest: ContentDigest;

  constructor(engine: Engine) {
    this.digest = new ContentDigest(engine);
  }

  gap(): void {
    this.open = undefined;
  }

  frame(payload: Uint8Array, frameAt: number): void {
    for (const record of recordsIn(payload)) this.record(record, frameAt);
  }

  private record({ type, value, at }: Record, frameAt: number): void {
    const fields = new Fields(value);
    if (type === ENTRY) {
      const entry = readEntry(fields);
      this.open = { entry, raw: value.slice(), frameAt, recordAt: at, size: 0, holes: 0, inUnits: false };
      this.digest.anew(false);
      if (entry.kind !== FILE) this.keep(new Uint8Array(48));
    } else if (this.open && fields.u64() === this.open.entry.id) {
      if (type === DATA_RECORD) this.data(fields.length64(), fields.take(fields.left));
      else if (type === HOLE) this.hole(...readHole(fields));
      else if (type === END) this.end(fields.take(fields.left));
    }
  }

  private data(offset: number, bytes: Uint8Array): void {
    if (!this.open || offset !== this.open.size) return this.gap();
    this.open.size += bytes.length;
    this.digest.take(bytes);
  }

  /** A file with holes begins with one, which may be empty. */
  private hole(offset: number, bytes: number): void {
    const { open } = this;
    if (!open || offset !== open.size || (!open.inUnits && open.size > 0)) return this.gap();
    if (!open.inUnits) this.digest.anew(true);
    open.inUnits = true;
    open.size += bytes;
    open.holes += bytes / HOLE_UNIT;
    this.digest.hole(bytes);
  }

  private end(rawDescription: Uint8Array): void {
    const { abandoned, size, holes, inUnits, digest } = readDescription(new Fields(rawDescription));
    const isAll = this.open?.size === size && this.open.holes === holes && this.open.inUnits === inUnits;
    if (!abandoned && isAll && areEqual(this.digest.tell(), digest)) this.keep(rawDescription.slice());
    else this.gap();
  }

  private keep(rawDescription: Uint8Array): void {
    const { entry, raw, frameAt, recordAt } = this.open!;
    const description = readDescription(new Fields(rawDescription));
    this.whole.set(`${frameAt}:${recordAt}`, { ...entry, ...description, raw, rawDescription, frameAt, recordAt });
    this.open = undefined;
  }
}
