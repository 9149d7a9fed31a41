// Records and what they tell of an entry (docs/format.md 3.3).

import { Fields } from './bytes';
import { HOLE_UNIT } from './digest';
import { Refusal, malformed } from './refusal';

export const ENTRY = 1;
export const DATA_RECORD = 2;
export const END = 3;
export const HOLE = 4;

export const FILE = 1;
export const FOLDER = 2;
export const LINK = 3;

const MAX_PATH_BYTES = 32767;
const MAX_COMPONENTS = 256;
const MAX_TARGET_BYTES = 4095;

export interface Entry {
  id: bigint;
  kind: number;
  mode: number;
  seconds: number;
  nanoseconds: number;
  path: Uint8Array;
  target: Uint8Array;
}

export interface Description {
  changedWhileRead: boolean;
  abandoned: boolean;
  /** The digest is that of the content's units. */
  inUnits: boolean;
  /** How many units are holes. */
  holes: number;
  size: number;
  digest: Uint8Array;
}

export interface Record {
  type: number;
  value: Uint8Array;
  /** Where it begins in its frame before compression. */
  at: number;
}

export function* recordsIn(frame: Uint8Array): Generator<Record> {
  for (const fields = new Fields(frame); fields.left > 0; ) {
    const at = frame.length - fields.left;
    const [type, flags, zeros, length] = [fields.u8(), fields.u8(), fields.u16(), fields.u32()];
    const value = fields.take(length);
    if (flags !== 0 || zeros !== 0) throw malformed('a record\'s reserved bytes are not zero');
    if (type & 0x80) continue;
    if (type < ENTRY || type > HOLE) throw new Refusal('newer version');
    yield { type, value, at };
  }
}

/** An ENTRY's value from where fields stand; behind it, whatever comes. */
export function readEntry(fields: Fields): Entry {
  const [id, kind] = [fields.u64(), fields.u8()];
  fields.zeros(3);
  const [mode, seconds, nanoseconds, pathBytes, targetBytes] = [fields.u32(), fields.i64(), fields.u32(), fields.u16(), fields.u16()];
  const [path, target] = [fields.take(pathBytes), fields.take(targetBytes)];
  if (kind < FILE || kind > LINK) throw malformed('an entry of no kind');
  if (mode > 0o7777 || nanoseconds > 999_999_999) throw malformed('a mode or a time');
  const hasTarget = targetBytes >= 1 && targetBytes <= MAX_TARGET_BYTES && !target.includes(0);
  if (kind === LINK ? !hasTarget : targetBytes !== 0) throw malformed('a link\'s target');
  if (!isSafe(path)) throw new Refusal('unsafe path', { path: textOf(path) });
  return { id, kind, mode, seconds: Number(seconds), nanoseconds, path, target };
}

export function readDescription(fields: Fields): Description {
  const flags = fields.u8();
  fields.zeros(1);
  const holes = fields.u16() + fields.u32() * 65_536;
  const [size, digest] = [fields.length64(), fields.take(32)];
  const inUnits = (flags & 4) !== 0;
  if (flags & ~7 || (holes > 0 && !inUnits) || holes * HOLE_UNIT > size) throw malformed('a content description');
  return { changedWhileRead: (flags & 1) !== 0, abandoned: (flags & 2) !== 0, inUnits, holes, size, digest };
}

/** A HOLE behind its id: where it begins, and how many bytes it has. */
export function readHole(fields: Fields): [number, number] {
  const [offset, bytes] = [fields.length64(), fields.length64()];
  fields.end();
  if (offset % HOLE_UNIT !== 0 || bytes % HOLE_UNIT !== 0) throw malformed('a hole');
  return [offset, bytes];
}

/** Whether a path stays below wherever it is put. */
function isSafe(path: Uint8Array): boolean {
  const components = componentsOf(path);
  const isFine = (component: Uint8Array) =>
    component.length > 0 && !(component.length <= 2 && component.every(byte => byte === 0x2e)) && !component.includes(0);
  return path.length <= MAX_PATH_BYTES && components.length <= MAX_COMPONENTS && components.every(isFine);
}

export function componentsOf(path: Uint8Array): Uint8Array[] {
  const components: Uint8Array[] = [];
  for (let from = 0; ; ) {
    const end = path.indexOf(0x2f, from);
    components.push(path.subarray(from, end < 0 ? path.length : end));
    if (end < 0) return components;
    from = end + 1;
  }
}

/** A path as text; bytes that are no UTF-8 become replacement characters. */
export function textOf(path: Uint8Array): string {
  return new TextDecoder().decode(path);
}
