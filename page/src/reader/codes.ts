// Codes that people tell each other (docs/format.md 8): the receipt, and the slip that asks for volumes again.

import type { Engine, Hasher } from '../engine';
import type { Header } from './header';
import type { Damage } from './volumes';

const ALPHABET = '0123456789ABCDEFGHJKMNPQRSTVWXYZ';
const RECEIPT = 0x52;
const SLIP = 0x53;
const WEIGHTS = [1, 3, 5, 7];
const MAX_RUNS = 254;
const MAX_SLIP_BYTES = 160;

/** Bytes in groups of four characters and one that checks them. */
export function inGroups(bytes: Uint8Array): string {
  const values: number[] = [];
  let [bits, held] = [0, 0];
  for (const byte of bytes) {
    [bits, held] = [(bits << 8) | byte, held + 8];
    for (; held >= 5; held -= 5) values.push((bits >> (held - 5)) & 31);
    bits &= (1 << held) - 1;
  }
  if (held > 0) values.push((bits << (5 - held)) & 31);
  while (values.length % 4 !== 0) values.push(0);
  const groups: string[] = [];
  for (let from = 0; from < values.length; from += 4) {
    const group = values.slice(from, from + 4);
    const sum = group.reduce((sum, value, place) => sum + WEIGHTS[place]! * value, 11 * (groups.length + 1));
    groups.push([...group, sum % 32].map(value => ALPHABET[value]).join(''));
  }
  return groups.join('-');
}

/** What a receipt is of. */
export interface ReceiptOf {
  key: Uint8Array;
  setId: Uint8Array;
  indexDigest: Uint8Array;
}

/** A receipt that is under way: it proves to the sender that all contents came out right. */
export class Receipt {
  readonly hasher: Hasher;

  constructor(engine: Engine, key: Uint8Array) {
    this.hasher = engine.hasher(key);
  }

  finish({ setId, indexDigest }: ReceiptOf): string {
    this.hasher.take(indexDigest);
    const digest = this.hasher.tell();
    this.hasher.end();
    return inGroups(Uint8Array.of(RECEIPT, ...setId.subarray(0, 2), ...digest.subarray(0, 7)));
  }
}

/** A slip that asks for these cells again. */
export function slip(header: Header, asked: Damage[]): string {
  let runs = touching(asked.map(({ first, last }) => ({ first, last })).sort((one, other) => one.first - other.first));
  for (let bytes = slipBytes(header, runs); ; bytes = slipBytes(header, runs)) {
    if (runs.length <= MAX_RUNS && bytes.length <= MAX_SLIP_BYTES) return inGroups(bytes);
    runs = nearestJoined(runs);
  }
}

interface CellRun {
  first: number;
  last: number;
}

function touching(runs: CellRun[]): CellRun[] {
  const joined: CellRun[] = [];
  for (const run of runs) {
    const before = joined.at(-1);
    if (before && run.first <= before.last + 1) before.last = Math.max(before.last, run.last);
    else joined.push({ ...run });
  }
  return joined;
}

/** With the two joined that have the fewest cells between them. */
function nearestJoined(runs: CellRun[]): CellRun[] {
  let nearest = 1;
  for (let place = 2; place < runs.length; place += 1) {
    if (runs[place]!.first - runs[place - 1]!.last < runs[nearest]!.first - runs[nearest - 1]!.last) nearest = place;
  }
  return [...runs.slice(0, nearest - 1), { first: runs[nearest - 1]!.first, last: runs[nearest]!.last }, ...runs.slice(nearest + 1)];
}

function slipBytes(header: Header, runs: CellRun[]): Uint8Array {
  const bytes = [SLIP, ...header.setId.subarray(0, 2), ...header.cutId.subarray(0, 2), ...sevenBits(runs.length)];
  let next = 0;
  for (const { first, last } of runs) {
    bytes.push(...sevenBits(first - next), ...sevenBits(last - first));
    next = last + 1;
  }
  return Uint8Array.from(bytes);
}

/** Groups of seven bits, the lowest first, the top bit set where more follow. */
function sevenBits(value: number): number[] {
  const bytes: number[] = [];
  for (let rest = value; ; rest = Math.floor(rest / 128)) {
    if (rest < 128) return [...bytes, rest];
    bytes.push((rest % 128) | 128);
  }
}
