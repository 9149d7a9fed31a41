// Spare volumes (docs/format.md 1.6): out of as many spare cells as data cells are lost, these are recreated. The arithmetic is that of
// bytes in the field of 256 elements; nothing that comes of it is believed before its seal is right.

import type { Header } from './header';

const MAX_MEMBERS = 200;
const MAX_PLACES = 56;
const POLYNOMIAL = 0x11d;

/** So many choices of spare cells are tried for one cell. */
const MAX_WAYS = 64;

const POWERS = new Uint8Array(255);
const LOGARITHMS = new Uint8Array(256);
for (let exponent = 0, element = 1; exponent < 255; exponent += 1) {
  POWERS[exponent] = element;
  LOGARITHMS[element] = exponent;
  element <<= 1;
  if (element > 255) element ^= POLYNOMIAL;
}

function product(one: number, other: number): number {
  return one === 0 || other === 0 ? 0 : POWERS[(LOGARITHMS[one]! + LOGARITHMS[other]!) % 255]!;
}

function inverse(element: number): number {
  return POWERS[(255 - LOGARITHMS[element]!) % 255]!;
}

/** What a member's data cell is multiplied by in the spare cell of a place. */
function multiplier(place: number, member: number): number {
  return inverse((255 - place) ^ member);
}

/** The groups that data volumes are taken in. */
export class Groups {
  readonly count: number;
  private readonly each: number;
  private readonly larger: number;

  constructor(volumes: number) {
    this.count = Math.max(1, Math.ceil(volumes / MAX_MEMBERS));
    this.each = Math.floor(volumes / this.count);
    this.larger = volumes % this.count;
  }

  /** The most spare volumes that there can be. */
  get most(): number {
    return this.count * MAX_PLACES;
  }

  /** The numbers of a group's data volumes. */
  members(group: number): number[] {
    const before = group * this.each + Math.min(group, this.larger);
    return Array.from({ length: this.each + (group < this.larger ? 1 : 0) }, (_, place) => before + place + 1);
  }

  ofVolume(number: number): number {
    const inLarger = this.larger * (this.each + 1);
    return number <= inLarger ? Math.floor((number - 1) / (this.each + 1)) : this.larger + Math.floor((number - 1 - inLarger) / this.each);
  }

  /** The group of a spare volume, and its place in that. */
  ofSpare(number: number): { group: number; place: number } {
    return { group: (number - 1) % this.count, place: Math.floor((number - 1) / this.count) };
  }
}

/** Cells of one index in the volumes of a group, without their checks; a member that has none there is left out. */
export interface Column {
  known: { member: number; bytes: Uint8Array }[];
  unknown: number[];
  spares: { place: number; bytes: Uint8Array }[];
}

/** What an unknown member's cell may be, the likeliest first. */
export function* recreated(column: Column, member: number, length: number): Generator<Uint8Array> {
  for (const way of ways(column.spares.length, column.unknown.length)) {
    const spares = way.map(place => column.spares[place]!);
    const solved = inverted(spares.map(({ place }) => column.unknown.map(unknown => multiplier(place, unknown))));
    const weights = solved?.[column.unknown.indexOf(member)];
    if (!weights) continue;
    const cells = [...column.known, ...spares].map(cell => cell.bytes);
    // What the known members add to the spare cells is taken off; taking off is adding here.
    const ofKnown = column.known.map(({ member }) => spares.reduce((sum, { place }, at) => sum ^ product(weights[at]!, multiplier(place, member)), 0));
    yield sumOf([...ofKnown, ...weights], cells, length);
  }
}

/** The sum of multiples of cells. Bits of the multipliers are gone through from the highest, and the sum is doubled between them. */
function sumOf(multipliers: number[], cells: Uint8Array[], length: number): Uint8Array {
  const words = new Uint32Array(Math.ceil(length / 4));
  const inWords = cells.map(cell => {
    const copy = new Uint32Array(words.length);
    new Uint8Array(copy.buffer).set(cell.subarray(0, length));
    return copy;
  });
  for (let bit = 7; bit >= 0; bit -= 1) {
    for (let at = 0; at < words.length; at += 1) {
      const word = words[at]!;
      const overflow = (word >>> 7) & 0x01010101;
      words[at] = ((word << 1) & 0xfefefefe) ^ (overflow * (POLYNOMIAL & 0xff));
    }
    multipliers.forEach((by, place) => {
      if (!((by >> bit) & 1)) return;
      const cell = inWords[place]!;
      for (let at = 0; at < words.length; at += 1) words[at]! ^= cell[at]!;
    });
  }
  return new Uint8Array(words.buffer, 0, length);
}

/** Choices of so many of the spare cells that are here. */
function* ways(among: number, chosen: number): Generator<number[]> {
  if (chosen > among) return;
  const way = Array.from({ length: chosen }, (_, place) => place);
  for (let tried = 0; tried < MAX_WAYS; tried += 1) {
    yield [...way];
    let at = chosen - 1;
    while (at >= 0 && way[at] === among - chosen + at) at -= 1;
    if (at < 0) return;
    way[at]! += 1;
    for (let behind = at + 1; behind < chosen; behind += 1) way[behind] = way[behind - 1]! + 1;
  }
}

/** The inverse of a square matrix. */
function inverted(matrix: number[][]): number[][] | undefined {
  const rows = matrix.map((row, at) => [...row, ...matrix.map((_, place) => (place === at ? 1 : 0))]);
  for (let column = 0; column < rows.length; column += 1) {
    const pivot = rows.findIndex((row, at) => at >= column && row[column] !== 0);
    if (pivot < 0) return undefined;
    [rows[column], rows[pivot]] = [rows[pivot]!, rows[column]!];
    const by = inverse(rows[column]![column]!);
    rows[column] = rows[column]!.map(element => product(element, by));
    for (let at = 0; at < rows.length; at += 1) {
      const factor = rows[at]![column]!;
      if (at !== column && factor !== 0) rows[at] = rows[at]!.map((element, place) => element ^ product(factor, rows[column]![place]!));
    }
  }
  return rows.map(row => row.slice(rows.length));
}

/** Lost cells of one volume: from one to another, counted from 0 in the stream. */
interface Lost {
  volume: number;
  first: number;
  last: number;
}

/** How many spare cells a group has at each index. */
export type Held = Map<number, Uint16Array>;

/** What has to be asked for, as little as makes all else good: nothing where the spare volumes make good what is lost. */
export function beyond(header: Header, lost: Lost[], held: Held): Lost[] {
  const groups = new Groups(header.volumes);
  const asked: Lost[] = [];
  for (const [group, ofGroup] of Map.groupBy(lost, run => groups.ofVolume(run.volume))) {
    const spares = held.get(group);
    // The last volumes first: it is the same ones all along, so that the runs are few.
    const runs = ofGroup.toSorted((one, other) => other.volume - one.volume || one.first - other.first);
    const lacking = new Uint16Array(Math.min(header.cellsAVolume, spares?.length ?? 0));
    const indices = ({ volume, first, last }: Lost): [number, number] => [first - (volume - 1) * header.cellsAVolume, last - (volume - 1) * header.cellsAVolume];
    for (const run of runs) {
      const [from, to] = indices(run);
      for (let index = from; index <= Math.min(to, lacking.length - 1); index += 1) lacking[index]! += 1;
    }
    lacking.forEach((count, index) => (lacking[index] = Math.max(0, count - spares![index]!)));
    for (const run of runs) {
      const [from, to] = indices(run);
      let open: Lost | undefined;
      for (let index = from; index <= Math.min(to, lacking.length - 1); index += 1) {
        const cell = run.first + index - from;
        if (lacking[index] === 0) open = undefined;
        else {
          lacking[index]! -= 1;
          if (open) open.last = cell;
          else asked.push((open = { volume: run.volume, first: cell, last: cell }));
        }
      }
      // Behind what any spare volume has.
      const behind = Math.max(from, lacking.length);
      if (behind <= to) asked.push({ volume: run.volume, first: run.first + behind - from, last: run.last });
    }
  }
  return asked;
}
