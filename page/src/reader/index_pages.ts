// The tail, the index's root and its pages (docs/format.md 3.1, 3.4): what is in an archive, and where.

import { Fields, areEqual, areZeros, order } from './bytes';
import { FILE, FOLDER, componentsOf, readDescription, readEntry, type Description, type Entry } from './records';
import { Refusal, malformed } from './refusal';

export const TAIL_BYTES = 128;
const MAX_PAGE_BYTES = 262144;
const MAX_PAGES = 16384;
const MAX_MESSAGE_BYTES = 65536;

/** The most parcels of a delivery. */
const MAX_PARCELS = 65_535;

/** The properties of an archive of changes, and of one in which files have holes, which must be understood. */
const BASE = 0x8005;
const HOLES = 0x8006;

/** The most further names of files. */
const MAX_FURTHER_NAMES = 262_144;

export interface Tail {
  innerBytes: number;
  rootAt: number;
  rootBytes: number;
  cells: number;
  entries: number;
  contentBytes: number;
  digest: Uint8Array;
}

export function readTail(bytes: Uint8Array): Tail {
  const fields = new Fields(bytes);
  const [innerBytes, rootAt, rootBytes] = [fields.length64(), fields.length64(), fields.u32()];
  fields.zeros(4);
  const [cells, entries, contentBytes, digest] = [fields.length64(), fields.length64(), fields.length64(), fields.take(32)];
  fields.zeros(48);
  return { innerBytes, rootAt, rootBytes, cells, entries, contentBytes, digest };
}

export interface Page {
  at: number;
  bytes: number;
  entries: number;
  digest: Uint8Array;
  firstPath: Uint8Array;
}

export interface About {
  made?: { seconds: number; nanoseconds: number };
  name?: string;
  message?: string;
  /** What it builds upon, where it holds only what has changed since. */
  base?: Base;
  /** Digests may be those of units. */
  inUnits?: boolean;
}

/** The archive that one of changes builds upon. */
export interface Base {
  made: { seconds: number; nanoseconds: number };
  name: string;
  /** Where the list of what is in it stands. */
  pages: Page[];
  /** What is in it, and is not there any more. */
  gone: Uint8Array[];
}

export function readRoot(bytes: Uint8Array): { about: About; pages: Page[]; sharing: Map<bigint, bigint> } {
  const fields = new Fields(bytes);
  const [count, propertyBytes] = [fields.u32(), fields.u32()];
  const sharing = new Map<bigint, bigint>();
  const about = readProperties(new Fields(fields.take(propertyBytes)), sharing);
  const pages = readPlaces(fields, count);
  fields.end();
  return { about, pages, sharing };
}

/** Where so many pages are. */
function readPlaces(fields: Fields, count: number): Page[] {
  if (count > MAX_PAGES) throw malformed('too many pages');
  const pages: Page[] = [];
  for (let place = 0; place < count; place += 1) {
    const [at, bytes, entries, digest] = [fields.length64(), fields.u32(), fields.u32(), fields.take(32)];
    pages.push({ at, bytes, entries, digest, firstPath: fields.take(fields.u16()) });
  }
  return pages;
}

/** The property of an archive of changes (docs/format.md 3.5). */
function readBase(fields: Fields): Base {
  fields.take(16 + 32);
  const made = { seconds: Number(fields.i64()), nanoseconds: fields.u32() };
  if (made.nanoseconds > 999_999_999) throw malformed('a time');
  const name = new TextDecoder().decode(fields.take(fields.u16()));
  const pages = readPlaces(fields, fields.u32());
  fields.end();
  return { made, name, pages, gone: [] };
}

/** What becomes of an entry of the base. */
const STAYS = 0;
const REPLACED = 1;
const REMOVED = 2;

/** Holds an entry of the base to what is here: what is replaced is here, and nothing else of it. */
export function noteBase(base: Base, entry: Listed, isHere: boolean): void {
  if (entry.frameAt > REMOVED || entry.recordAt > 1) throw malformed('an entry of the base');
  if (isHere !== (entry.frameAt === REPLACED)) throw malformed('an entry of the base');
  if (entry.frameAt !== STAYS && entry.frameAt !== REPLACED) base.gone.push(entry.path.slice());
}

function readProperties(fields: Fields, sharing: Map<bigint, bigint>): About {
  const about: About = {};
  const seen = new Set<number>();
  while (fields.left > 0) {
    const type = fields.u16();
    fields.zeros(2);
    const value = fields.take(fields.u32());
    if (type & 0x8000 && type !== BASE && type !== HOLES) throw new Refusal('newer version');
    if (((type >= 1 && type <= 7) || type === BASE || type === HOLES) && seen.has(type)) throw malformed('a property twice');
    seen.add(type);
    if (type === 1) {
      const time = new Fields(value);
      about.made = { seconds: Number(time.i64()), nanoseconds: time.u32() };
      time.end();
      if (about.made.nanoseconds > 999_999_999) throw malformed('a time');
    } else if (type === 2) {
      about.name = new TextDecoder().decode(value);
    } else if (type === 3) {
      if (value.length !== 1) throw malformed('a squeeze');
    } else if (type === 4) {
      if (value.length > MAX_MESSAGE_BYTES) throw malformed('a message is too long');
      about.message = decoded(value);
    } else if (type === 5) {
      if (value.length !== 8) throw malformed('a limit');
    } else if (type === 6) {
      const parcel = new Fields(value);
      parcel.take(16);
      const [number, count] = [parcel.u32(), parcel.u32()];
      parcel.end();
      if (number === 0 || number > count || count > MAX_PARCELS) throw malformed('a parcel');
    } else if (type === 7) {
      readSharing(new Fields(value), sharing);
    } else if (type === HOLES) {
      if (value.length !== 0) throw malformed('holes');
      about.inUnits = true;
    } else if (type === BASE) {
      about.base = readBase(new Fields(value));
    }
  }
  return about;
}

/** Ids of further names, which rise, each with its owner's. */
function readSharing(fields: Fields, sharing: Map<bigint, bigint>): void {
  if (fields.left === 0 || fields.left > 16 * MAX_FURTHER_NAMES) throw malformed('further names');
  for (let before = -1n; fields.left > 0; ) {
    const [id, owner] = [fields.u64(), fields.u64()];
    if (id <= before) throw malformed('further names');
    sharing.set(id, owner);
    before = id;
  }
}

function decoded(bytes: Uint8Array): string {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
  } catch {
    throw malformed('a message that is no UTF-8');
  }
}

/** An entry of the index. */
export interface Listed extends Entry, Description {
  frameAt: number;
  recordAt: number;
  /** ENTRY's value and the content description, byte by byte. */
  raw: Uint8Array;
  rawDescription: Uint8Array;
  /** Of a further name: the file that has its content. */
  owner?: Listed;
}

export function readPage(bytes: Uint8Array, page: Page, inUnits: boolean | undefined): Listed[] {
  if (bytes.length > MAX_PAGE_BYTES) throw malformed('a page is too long');
  const fields = new Fields(bytes);
  const count = fields.u32();
  fields.zeros(4);
  if (count < 1 || count !== page.entries) throw malformed('a page\'s count');
  const entries: Listed[] = [];
  for (let place = 0; place < count; place += 1) {
    const from = bytes.length - fields.left;
    const entry = readEntry(fields);
    const raw = bytes.subarray(from, bytes.length - fields.left);
    const [frameAt, recordAt] = [fields.length64(), fields.u32()];
    fields.zeros(4);
    const rawDescription = fields.take(48);
    const description = readDescription(new Fields(rawDescription));
    if (description.abandoned || (entry.kind !== FILE && !areZeros(rawDescription))) throw malformed('an entry\'s content');
    if (description.inUnits && !inUnits) throw malformed('holes that the root does not tell');
    entries.push({ ...entry, ...description, frameAt, recordAt, raw, rawDescription });
  }
  fields.end();
  if (!areEqual(entries[0]!.path, page.firstPath)) throw malformed('a page\'s first path');
  return entries;
}

/** Watches that paths come in order, each once, and only folders have something below them. */
export class PathOrder {
  private before: Uint8Array[] = [];
  private kind = FOLDER;
  private readonly ids = new Set<bigint>();

  next(entry: Entry): void {
    const components = componentsOf(entry.path);
    if (this.before.length > 0) {
      const common = Math.min(this.before.length, components.length);
      let place = 0;
      while (place < common && areEqual(this.before[place]!, components[place]!)) place += 1;
      const isBelow = place === this.before.length && components.length > place;
      const follows = isBelow || (place < common && order(this.before[place]!, components[place]!) < 0);
      if (!follows || (isBelow && this.kind !== FOLDER)) throw malformed('the order of paths');
    }
    if (this.ids.has(entry.id)) throw malformed('an id twice');
    this.ids.add(entry.id);
    this.before = components;
    this.kind = entry.kind;
  }
}
