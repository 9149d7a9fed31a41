// The reader's worker: it holds the sets and the open archive, and does what the page asks for.

import type { Engine } from '../engine';
import { zeros } from '../reader/digest';
import { Archive, type Sink } from '../reader/archive';
import { Cells } from '../reader/cells';
import { slip } from '../reader/codes';
import type { Header } from '../reader/header';
import type { About, Listed } from '../reader/index_pages';
import type { Keys } from '../reader/keys';
import { FILE, textOf } from '../reader/records';
import { Refusal } from '../reader/refusal';
import { salvage } from '../reader/salvage';
import { Stream, type Helpers } from '../reader/stream';
import { gather, type Damage, type Found, type Given, type VolumeSet } from '../reader/volumes';
import { asFileName, names } from '../ways_out/names';
import { InMemory, clearStored } from '../ways_out/output';
import type { Answers, Caller, Ways } from './calls';
import type { Order, SavedTo, Target } from './saver';
import { ToSaver } from './to_saver';

export interface SetTold {
  header: Header;
  found: Found[];
  missing: number[];
  /** How many spare volumes are here. */
  spares: number;
  bytes: number;
  /** Its place among the sets, by which it is asked for. */
  number: number;
  /** What headers say that contradict these. */
  rivals: SetTold[];
}

export interface CheckTold {
  damaged: Damage[];
  /** What asks the sender for what is missing and damaged, as far as spare volumes do not make it good. */
  slip?: string;
}

/** What is in an archive, for the page: a place in these lists is an entry's number. */
export interface ListTold {
  about: About;
  paths: string[];
  kinds: Uint8Array;
  sizes: Float64Array;
  seconds: Float64Array;
  /** Names that had to be changed. */
  changedNames: number;
  /** Paths that are lost, where that is known; undefined where nobody can tell. */
  lost?: string[];
  salvaged: boolean;
}

export interface Saved extends SavedTo {
  files: number;
  bytes: number;
}

export class Desk {
  private sets: VolumeSet[] = [];
  private cells?: Cells;
  private keys?: Keys;
  private archive?: Archive;
  private nameOf = new Map<Listed, string>();
  private salvaged = false;
  /** How far the work under way may go on. */
  private goOn = () => {};

  constructor(private readonly engine: Engine, private readonly helpers: Helpers, private readonly saver: Caller) {}

  answers(): Answers {
    return {
      gather: (_, files: Given[]) => this.gather(files),
      check: (ways, set: number) => this.check(ways, set),
      open: (ways, set: number, keys: Keys) => this.open(ways, set, keys),
      salvage: ways => this.salvage(ways),
      look: (ways, entry: number, type: string) => this.look(ways, entry, type),
      clear: () => clearStored(),
      save: (ways, entries: number[] | undefined, target: Target, isZip: boolean) => this.save(ways, entries, target, isZip),
    };
  }

  private async gather(files: Given[]): Promise<{ sets: SetTold[]; others: Found[] }> {
    const { sets, others } = await gather(files, this.engine);
    this.sets = [];
    this.archive = undefined;
    return { sets: sets.map(set => this.told(set)), others };
  }

  private told(set: VolumeSet): SetTold {
    const { header, found, missing, bytes } = set;
    const spares = set.spareNumbers.length;
    const number = this.sets.push(set) - 1;
    return { header, found, missing, bytes, spares, number, rivals: set.rivals.map(rival => this.told(rival)) };
  }

  private async check(ways: Ways, number: number): Promise<CheckTold> {
    const set = this.sets[number]!;
    const damaged = await set.check(bytes => ways.told(bytes), ways.goOn);
    const asked = await set.asked(damaged, bytes => ways.told(bytes), ways.goOn);
    return { damaged, slip: asked.length === 0 ? undefined : slip(set.header, asked) };
  }

  private async open(ways: Ways, number: number, keys: Keys): Promise<ListTold> {
    this.goOn = ways.goOn;
    this.keys = keys;
    this.cells = new Cells(this.sets[number]!, keys);
    this.archive = undefined;
    const archive = await Archive.open(this.sets[number]!, keys, this.engine, this.helpers, () => this.goOn());
    return this.list(archive, []);
  }

  private async salvage(ways: Ways): Promise<ListTold> {
    const { cells, keys } = this;
    if (!cells || !keys) throw new Refusal('wrong password');
    this.goOn = ways.goOn;
    const whole = this.salvaged ? undefined : (this.archive ?? (await this.indexOf(cells, keys)));
    const { whole: entries, lost } = await salvage(cells, this.engine, this.helpers, whole?.entries, bytes => ways.told(bytes), ways.goOn);
    const stream = new Stream(cells, this.helpers, () => this.goOn());
    const archive = Archive.salvaged(whole, cells, stream, keys, this.engine, entries);
    return this.list(archive, lost, true);
  }

  /** The archive, if its index can be read. */
  private async indexOf(cells: Cells, keys: Keys): Promise<Archive | undefined> {
    try {
      return await Archive.open(cells.volumes, keys, this.engine, this.helpers, () => this.goOn());
    } catch (error) {
      if (error instanceof Refusal && error.reason !== 'cancelled') return undefined;
      throw error;
    }
  }

  private list(archive: Archive, lost: Listed[] | undefined, salvaged = false): ListTold {
    this.archive = archive;
    this.salvaged = salvaged;
    const { entries, about } = archive;
    const { of, changed } = names(entries);
    this.nameOf = of;
    return {
      about,
      paths: entries.map(entry => of.get(entry)!),
      kinds: Uint8Array.from(entries, entry => entry.kind),
      sizes: Float64Array.from(entries, entry => entry.size),
      seconds: Float64Array.from(entries, entry => entry.seconds),
      changedNames: changed,
      lost: lost?.map(entry => textOf(entry.path)),
      salvaged,
    };
  }

  private opened(): Archive {
    if (!this.archive) throw new Refusal('wrong password');
    return this.archive;
  }

  /** One file's content, for looking at it. */
  private async look(ways: Ways, number: number, type: string): Promise<Blob> {
    this.goOn = ways.goOn;
    const output = new InMemory();
    const archive = this.opened();
    const hole = async (bytes: number) => {
      for (const piece of zeros(bytes)) await output.write(piece);
    };
    const sink: Sink = { begin() {}, data: bytes => output.write(bytes), hole, end() {} };
    await archive.extract([archive.entries[number]!], sink, bytes => ways.told(bytes));
    const blob = await output.close();
    return blob!.slice(0, blob!.size, type);
  }

  /** Some entries, or all; as one ZIP archive, or a file as it is, or in a folder. The saver writes what is verified here. */
  private async save(ways: Ways, numbers: number[] | undefined, target: Target, isZip: boolean): Promise<Saved> {
    this.goOn = ways.goOn;
    const archive = this.opened();
    const entries = numbers?.map(number => archive.entries[number]!) ?? archive.entries;
    const saved: Saved = { files: entries.filter(entry => entry.kind === FILE).length, bytes: entries.reduce((sum, entry) => sum + entry.size, 0) };
    const isAll = !numbers && !this.salvaged;
    const order: Order = { target, isZip, name: asFileName(archive.about.name), receipt: isAll ? archive.receiptOf : undefined };
    const sink = await ToSaver.begin(this.saver, order, entry => this.nameOf.get(entry)!);
    try {
      if (isAll) await archive.extractAll(sink, bytes => ways.told(bytes));
      else await archive.extract(entries, sink, bytes => ways.told(bytes));
      return { ...saved, ...(await sink.finish()) };
    } catch (error) {
      await sink.abort();
      throw error;
    }
  }
}
