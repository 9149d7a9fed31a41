// An archive that was unlocked (docs/format.md 4): its list, and content that is given only as its index says, in order, and
// with the right digest in the end.

import type { Engine } from '../engine';
import { Fields, areEqual, hex } from './bytes';
import { Cells } from './cells';
import type { ReceiptOf } from './codes';
import { ContentDigest, HOLE_UNIT } from './digest';
import { CONTENT, INDEX_PAGE, INDEX_ROOT } from './frames';
import { asFiles } from './further_names';
import { PathOrder, TAIL_BYTES, noteBase, readPage, readRoot, readTail, type About, type Listed, type Tail } from './index_pages';
import type { Keys } from './keys';
import { DATA_RECORD, END, ENTRY, FILE, HOLE, readDescription, readEntry, readHole, recordsIn, type Record } from './records';
import { malformed } from './refusal';
import { Stream, type Helpers } from './stream';
import type { VolumeSet } from './volumes';

/** Takes what comes out. A file counts only once `end` was called; where reading fails before that, nothing of it may stay. */
export interface Sink {
  begin(entry: Listed): void | Promise<void>;
  data(bytes: Uint8Array): void | Promise<void>;
  /** So many zeros that are stored nowhere. */
  hole(bytes: number): void | Promise<void>;
  end(entry: Listed): void | Promise<void>;
  /** All of this frame was given, and nobody else needs its bytes. */
  frame?(payload: Uint8Array): Promise<void>;
}

export class Archive {
  private constructor(
    private readonly engine: Engine,
    readonly stream: Stream,
    private readonly keys: Keys,
    readonly tail: Tail,
    readonly about: About,
    readonly entries: Listed[],
    private readonly setId: Uint8Array,
  ) {}

  static async open(volumes: VolumeSet, keys: Keys, engine: Engine, helpers: Helpers, goOn: () => void): Promise<Archive> {
    const cells = new Cells(volumes, keys);
    const stream = new Stream(cells, helpers, goOn);
    const tail = await readLastCell(cells);
    const root = await stream.frame(tail.rootAt, tail.rootBytes, INDEX_ROOT);
    if (!areEqual(engine.blake3(root), tail.digest)) throw malformed('the index root\'s digest');
    const { about, pages, sharing } = readRoot(root);
    const [entries, order] = [[] as Listed[], new PathOrder()];
    for (const page of pages) {
      const bytes = await stream.frame(page.at, page.bytes, INDEX_PAGE);
      if (!areEqual(engine.blake3(bytes), page.digest)) throw malformed('a page\'s digest');
      for (const entry of readPage(bytes, page, about.inUnits)) {
        order.next(entry);
        entries.push(entry);
      }
    }
    if (about.base) {
      const here = new Set(entries.map(entry => hex(entry.path)));
      const baseOrder = new PathOrder();
      for (const page of about.base.pages) {
        const bytes = await stream.frame(page.at, page.bytes, INDEX_PAGE);
        if (!areEqual(engine.blake3(bytes), page.digest)) throw malformed('a page\'s digest');
        for (const entry of readPage(bytes, page, about.inUnits)) {
          baseOrder.next(entry);
          noteBase(about.base, entry, here.has(hex(entry.path)));
        }
      }
    }
    const contentBytes = entries.reduce((sum, entry) => sum + entry.size, 0);
    if (entries.length !== tail.entries || contentBytes !== tail.contentBytes) throw malformed('the tail\'s sums');
    asFiles(entries, sharing);
    return new Archive(engine, stream, keys, tail, about, entries, volumes.header.setId);
  }

  /** What could be had with volumes missing or damaged. Its entries are whole; whether they are all is known where the index is. */
  static salvaged(whole: Archive | undefined, cells: Cells, stream: Stream, keys: Keys, engine: Engine, entries: Listed[]): Archive {
    const innerBytes = cells.count * cells.partBytes;
    const tail = whole?.tail ?? { innerBytes, rootAt: 0, rootBytes: 0, cells: cells.count, entries: 0, contentBytes: 0, digest: new Uint8Array(32) };
    return new Archive(engine, stream, keys, tail, whole?.about ?? {}, entries, cells.volumes.header.setId);
  }

  /** What the receipt of all its content is of. */
  get receiptOf(): ReceiptOf {
    return { key: this.keys.receipt, setId: this.setId.slice(), indexDigest: this.tail.digest.slice() };
  }

  /** Everything, in the order of the stream. */
  async extractAll(sink: Sink, told: (bytes: number) => void): Promise<void> {
    const left = new Map(this.entries.map(entry => [placeOf(entry.frameAt, entry.recordAt), entry]));
    const assembly = new Assembly(this.engine, place => take(left, place), sink);
    for await (const frame of this.stream.frames(0, this.tail.innerBytes)) {
      if (frame.kind !== CONTENT) continue;
      for (const record of recordsIn(frame.payload)) await assembly.next(record, frame.at);
      told(frame.payload.length);
      await sink.frame?.(frame.payload);
    }
    assembly.finish();
    if (left.size > 0) throw malformed('an entry that is listed and is not there');
    await this.stream.endsIn(this.tail.innerBytes, TAIL_BYTES);
    await this.extractFurther(this.entries, sink);
  }

  /** Some entries: what has no content as the list says, and files in the order of the stream, each from where it stands. */
  async extract(entries: Listed[], sink: Sink, told: (bytes: number) => void = () => {}): Promise<void> {
    for (const entry of entries.filter(entry => entry.kind !== FILE)) {
      await sink.begin(entry);
      await sink.end(entry);
    }
    const files = entries.filter(entry => entry.kind === FILE && !entry.owner).sort((one, other) => one.frameAt - other.frameAt || one.recordAt - other.recordAt);
    const wanted = new Map(files.map(entry => [placeOf(entry.frameAt, entry.recordAt), entry]));
    for (let next = files[0]; next; next = wanted.values().next().value) {
      const before = wanted.size;
      await this.extractFrom(next.frameAt, wanted, sink, told);
      if (wanted.size === before) throw malformed('an entry that is listed and is not there');
    }
    await this.extractFurther(entries, sink);
  }

  /** Further names, each with its owner's content, which is read again. */
  private async extractFurther(entries: Listed[], sink: Sink): Promise<void> {
    for (const entry of entries) {
      const { owner } = entry;
      if (!owner) continue;
      const underName: Sink = {
        begin: () => sink.begin(entry),
        data: bytes => sink.data(bytes),
        hole: bytes => sink.hole(bytes),
        end: () => sink.end(entry),
        frame: payload => sink.frame?.(payload) ?? Promise.resolve(),
      };
      await this.extractFrom(owner.frameAt, new Map([[placeOf(owner.frameAt, owner.recordAt), owner]]), underName, () => {});
    }
  }

  /** Wanted files from one frame on, as long as one begins in each frame, or goes on. */
  private async extractFrom(from: number, wanted: Map<string, Listed>, sink: Sink, told: (bytes: number) => void): Promise<void> {
    const assembly = new Assembly(this.engine, place => take(wanted, place), sink);
    let isWanted = false;
    for await (const frame of this.stream.frames(from, this.tail.innerBytes)) {
      if (frame.kind === CONTENT) {
        for (const record of recordsIn(frame.payload)) {
          if (record.type === ENTRY && !assembly.isOpen) isWanted = wanted.has(placeOf(frame.at, record.at));
          if (!isWanted) continue;
          await assembly.next(record, frame.at);
          if (record.type === DATA_RECORD) told(record.value.length);
          isWanted = assembly.isOpen;
        }
        await sink.frame?.(frame.payload);
      }
      const next: Listed | undefined = wanted.values().next().value;
      if (!assembly.isOpen && next?.frameAt !== frame.at + frame.length) break;
    }
    assembly.finish();
  }
}

async function readLastCell(cells: Cells): Promise<Tail> {
  const last = cells.count - 1;
  const [cell] = await cells.open(last, 1);
  const tail = readTail(cell!.part.subarray(-TAIL_BYTES));
  const room = last * cells.partBytes + cell!.part.length - TAIL_BYTES;
  const isInside = tail.innerBytes <= room && tail.rootAt + tail.rootBytes <= tail.innerBytes;
  if (tail.cells !== cells.count || !isInside) throw malformed('the tail');
  return tail;
}

function placeOf(frameAt: number, recordAt: number): string {
  return `${frameAt}:${recordAt}`;
}

function take<K, V>(map: Map<K, V>, key: K): V | undefined {
  const value = map.get(key);
  map.delete(key);
  return value;
}

/** Puts records together to files, and refuses whatever is not as the index says. */
class Assembly {
  private open?: { id: bigint; listed?: Listed; size: number; holes: number };
  private readonly digest: ContentDigest;

  constructor(
    engine: Engine,
    private readonly listedAt: (place: string) => Listed | undefined,
    private readonly sink: Sink,
  ) {
    this.digest = new ContentDigest(engine);
  }

  /** Whether a file has begun and not ended yet. */
  get isOpen(): boolean {
    return this.open !== undefined;
  }

  async next(record: Record, frameAt: number): Promise<void> {
    if (record.type === ENTRY) await this.entry(record, frameAt);
    else if (record.type === DATA_RECORD) await this.data(new Fields(record.value));
    else if (record.type === HOLE) await this.hole(new Fields(record.value));
    else if (record.type === END) await this.end(record.value);
  }

  private async entry(record: Record, frameAt: number): Promise<void> {
    if (this.open) throw malformed('an entry within another');
    const listed = this.listedAt(placeOf(frameAt, record.at));
    const fields = new Fields(record.value);
    const entry = readEntry(fields);
    fields.end();
    if (listed ? !areEqual(listed.raw, record.value) : entry.kind !== FILE) throw malformed('an entry that is not as listed');
    // Of a further name there is no more than this record.
    if (listed?.owner) return;
    if (listed) await this.sink.begin(listed);
    if (entry.kind === FILE) {
      this.digest.anew(listed?.inUnits ?? false);
      this.open = { id: entry.id, listed, size: 0, holes: 0 };
    } else if (listed) {
      await this.sink.end(listed);
    }
  }

  private async data(fields: Fields): Promise<void> {
    const [id, offset] = [fields.u64(), fields.length64()];
    const bytes = fields.take(fields.left);
    const { open } = this;
    if (!open || open.id !== id || open.size !== offset) throw malformed('content that goes nowhere');
    open.size += bytes.length;
    if (!open.listed) return;
    if (open.size > open.listed.size) throw malformed('more content than is listed');
    this.digest.take(bytes);
    await this.sink.data(bytes);
  }

  private async hole(fields: Fields): Promise<void> {
    const id = fields.u64();
    const [offset, bytes] = readHole(fields);
    const { open } = this;
    if (!open || open.id !== id || open.size !== offset) throw malformed('a hole that is nowhere');
    open.size += bytes;
    open.holes += bytes / HOLE_UNIT;
    if (!open.listed) return;
    if (open.size > open.listed.size || !open.listed.inUnits) throw malformed('a hole that is not listed');
    this.digest.hole(bytes);
    await this.sink.hole(bytes);
  }

  private async end(value: Uint8Array): Promise<void> {
    const fields = new Fields(value);
    const id = fields.u64();
    const rawDescription = fields.take(48);
    fields.end();
    const { open } = this;
    if (!open || open.id !== id) throw malformed('an end of nothing');
    this.open = undefined;
    const { abandoned } = readDescription(new Fields(rawDescription));
    if (!open.listed) {
      if (!abandoned) throw malformed('a file that is not listed');
      return;
    }
    const isRight = areEqual(rawDescription, open.listed.rawDescription) && open.size === open.listed.size && open.holes === open.listed.holes && areEqual(this.digest.tell(), open.listed.digest);
    if (!isRight) throw malformed('content that is not as listed');
    await this.sink.end(open.listed);
  }

  finish(): void {
    this.digest.end();
    if (this.open) throw malformed('a file does not end');
  }
}
