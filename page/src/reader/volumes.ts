// Volumes (docs/format.md 1): which files belong together, under any name, and where each cell of a stream lies in them. Nothing
// here needs the password.

import type { Engine } from '../engine';
import { Fields, areEqual, areZeros, hex, joined, numbers } from './bytes';
import { DATA, HEADER_BYTES, SPARE, SUPPLEMENT, agreement, bytesOfCell, cellsIn, looksLikeVolume, readHeader, type Header } from './header';
import { Refusal, type Reason } from './refusal';
import { Groups, beyond, recreated, type Column, type Held } from './spares';

/** A supplement's table of runs (1.4). */
const RUNS_BYTES = 4096;
const RUNS_CHECKED_BYTES = RUNS_BYTES - 16;
const MAX_RUNS = 254;

/** Cells that are read at once. */
export const BATCH_CELLS = 64;

/** A damaged header's file is known by its first cells (1.2). So many are tried, and so many bytes hashed for all files. */
const TRIED_CELLS = 4;

/** So many ways in which headers contradict the others are kept for the password to judge. */
const MAX_RIVALS = 4;
const MAX_TRIED_BYTES = 2 ** 30;
const TRY_BYTES = 128;

export interface Given {
  name: string;
  blob: Blob;
}

/** Cells in a file that stand one behind the other in the stream too. */
interface Run {
  first: number;
  count: number;
  file: Given;
  at: number;
}

/** A file, and what it was found to be. */
export interface Found {
  name: string;
  bytes: number;
  number?: number;
  wrong?: Reason;
  supplement?: boolean;
  spare?: number;
  again?: boolean;
  byCells?: boolean;
}

/** Cells of one volume that are damaged: from one to another, counted from 0 in the stream. */
export interface Damage {
  volume: number;
  first: number;
  last: number;
}

export interface CellCopy {
  ciphertext: Uint8Array;
  check: Uint8Array;
}

/** All files of one set and cut. */
export class VolumeSet {
  readonly found: Found[] = [];
  /** The same set as headers describe it that contradict these; the password tells which is genuine. */
  rivals: VolumeSet[] = [];
  private readonly runs: Run[] = [];
  private readonly present = new Set<number>();
  private readonly spares = new Map<number, Given[]>();

  constructor(readonly header: Header, private readonly engine: Engine) {}

  get missing(): number[] {
    return Array.from({ length: this.header.volumes }, (_, place) => place + 1).filter(number => !this.present.has(number));
  }

  get bytes(): number {
    return this.found.reduce((sum, file) => sum + file.bytes, 0);
  }

  /** A file that holds the data volume of this number. */
  addVolume(file: Given, number: number, byCells: boolean): void {
    this.found.push({ name: file.name, bytes: file.blob.size, number, again: this.present.has(number), byCells });
    this.present.add(number);
    this.runs.push({ first: (number - 1) * this.header.cellsAVolume, count: cellsIn(this.header, number), file, at: HEADER_BYTES });
  }

  addSpare(file: Given, number: number, byCells: boolean): void {
    this.found.push({ name: file.name, bytes: file.blob.size, spare: number, byCells });
    this.spares.set(number, [...(this.spares.get(number) ?? []), file]);
  }

  /** The numbers of the spare volumes that are here. */
  get spareNumbers(): number[] {
    return [...this.spares.keys()];
  }

  async addSupplement(file: Given): Promise<void> {
    const told: Found = { name: file.name, bytes: file.blob.size, supplement: true };
    this.found.push(told);
    const table = await readBytes(file.blob, HEADER_BYTES, RUNS_BYTES);
    const runs = table && this.runsOf(table, file);
    if (runs) this.runs.push(...runs);
    else told.wrong = 'damaged';
  }

  private runsOf(table: Uint8Array, file: Given): Run[] | undefined {
    const check = this.engine.blake3(this.header.setId, this.header.cutId, Uint8Array.of(SUPPLEMENT), table.subarray(0, RUNS_CHECKED_BYTES));
    if (table.length < RUNS_BYTES || !areEqual(check.subarray(0, 16), table.subarray(RUNS_CHECKED_BYTES))) return undefined;
    const fields = new Fields(table.subarray(0, RUNS_CHECKED_BYTES));
    const [count, zeros] = [fields.u32(), fields.u32()];
    if (count < 1 || count > MAX_RUNS || zeros !== 0) return undefined;
    let [at, next] = [HEADER_BYTES + RUNS_BYTES, -1];
    const runs: Run[] = [];
    for (let place = 0; place < count; place += 1) {
      const [first, cells, reserved] = [fields.u64(), fields.u32(), fields.u32()];
      const last = first + BigInt(cells);
      if (cells < 1 || reserved !== 0 || first <= BigInt(next) || last > BigInt(this.header.cells)) return undefined;
      runs.push({ first: Number(first), count: cells, file, at });
      next = Number(last);
      at += (cells - 1) * this.header.cellBytes + bytesOfCell(this.header, next - 1);
    }
    return areZeros(fields.take(fields.left)) ? runs : undefined;
  }

  /** The number of the volume in which a cell lies, and its place there. */
  placeOf(cell: number): { volume: number; index: number } {
    return { volume: Math.floor(cell / this.header.cellsAVolume) + 1, index: cell % this.header.cellsAVolume };
  }

  private startIn(run: Run, cell: number): number {
    return run.at + (cell - run.first) * this.header.cellBytes;
  }

  private endIn(run: Run, cell: number): number {
    return this.startIn(run, cell) + bytesOfCell(this.header, cell);
  }

  /** Cells from `first` on, from the first file that has them: fewer where a file ends, none where no file has the first one. */
  async read(first: number, most: number): Promise<CellCopy[]> {
    for (const run of this.runs) {
      if (first < run.first || first >= run.first + run.count) continue;
      const last = Math.min(run.first + run.count, first + most) - 1;
      const from = this.startIn(run, first);
      const bytes = await readBytes(run.file.blob, from, this.endIn(run, last) - from);
      const cells = bytes ? this.divided(bytes, first, last) : [];
      if (cells.length > 0) return cells;
    }
    return [];
  }

  /** Every copy of one cell. */
  async copies(cell: number): Promise<CellCopy[]> {
    const copies: CellCopy[] = [];
    for (const run of this.runs) {
      if (cell < run.first || cell >= run.first + run.count) continue;
      const bytes = await readBytes(run.file.blob, this.startIn(run, cell), bytesOfCell(this.header, cell));
      if (bytes) copies.push(...this.divided(bytes, cell, cell));
    }
    return copies;
  }

  /** What a cell may be by the spare volumes. Only its seal tells which is right. */
  async *recreated(cell: number): AsyncGenerator<Uint8Array> {
    if (this.spares.size === 0) return;
    const { volume, index } = this.placeOf(cell);
    const { group, members, spares } = this.groupOf(volume);
    const column: Column = { known: [], unknown: [], spares: [] };
    const isGone = (number: number) => number === volume || !this.present.has(number);
    if (members.filter(number => index < cellsIn(this.header, number) && isGone(number)).length > spares.length) return;
    for (const [member, number] of members.entries()) {
      if (index >= cellsIn(this.header, number)) continue;
      const bytes = number === volume ? undefined : await this.intact((number - 1) * this.header.cellsAVolume + index);
      if (bytes) column.known.push({ member, bytes });
      else column.unknown.push(member);
    }
    for (const number of spares) {
      const bytes = await this.spareCell(number, index);
      if (bytes) column.spares.push({ place: group.ofSpare(number).place, bytes });
    }
    const length = bytesOfCell(this.header, cell) - 16;
    for (const whole of recreated(column, members.indexOf(volume), this.header.cellBytes - 16)) yield whole.slice(0, length);
  }

  private groupOf(volume: number): { group: Groups; members: number[]; spares: number[] } {
    const group = new Groups(this.header.volumes);
    const which = group.ofVolume(volume);
    return { group, members: group.members(which), spares: this.spareNumbers.filter(number => group.ofSpare(number).group === which) };
  }

  /** A cell of which a copy is intact, without its check. */
  private async intact(cell: number): Promise<Uint8Array | undefined> {
    return (await this.copies(cell)).find(copy => this.isIntact(cell, copy))?.ciphertext;
  }

  private async spareCell(number: number, index: number): Promise<Uint8Array | undefined> {
    const { cellBytes } = this.header;
    for (const file of this.spares.get(number) ?? []) {
      const bytes = await readBytes(file.blob, HEADER_BYTES + index * cellBytes, cellBytes);
      const sealed = bytes?.subarray(0, cellBytes - 16);
      if (bytes?.length === cellBytes && checkMatches(this.engine, this.header, SPARE, number, index, this.engine.blake3(sealed!), bytes.subarray(cellBytes - 16))) return sealed;
    }
    return undefined;
  }

  /** How many intact spare cells each group has at each index. */
  private async held(told: (bytes: number) => void, goOn: () => void): Promise<Held> {
    const groups = new Groups(this.header.volumes);
    const held: Held = new Map();
    for (const [number, files] of this.spares) {
      const { group } = groups.ofSpare(number);
      const room = Math.max(...files.map(file => Math.floor((file.blob.size - HEADER_BYTES) / this.header.cellBytes)));
      const cells = Math.max(0, Math.min(this.header.cellsAVolume, room));
      const before = held.get(group) ?? new Uint16Array(0);
      const counts = new Uint16Array(Math.max(before.length, cells));
      counts.set(before);
      held.set(group, counts);
      for (let index = 0; index < cells; index += 1) {
        goOn();
        if (await this.spareCell(number, index)) counts[index]! += 1;
        told(this.header.cellBytes);
      }
    }
    return held;
  }

  /** What has to be asked for of what is missing and damaged. */
  async asked(damaged: Damage[], told: (bytes: number) => void, goOn: () => void): Promise<Damage[]> {
    const lost = this.missing.map(volume => {
      const first = (volume - 1) * this.header.cellsAVolume;
      return { volume, first, last: first + cellsIn(this.header, volume) - 1 };
    });
    const all = [...damaged, ...lost];
    return this.spares.size === 0 || all.length === 0 ? all : beyond(this.header, all, await this.held(told, goOn));
  }

  private divided(bytes: Uint8Array, first: number, last: number): CellCopy[] {
    const cells: CellCopy[] = [];
    for (let cell = first, at = 0; cell <= last; cell += 1) {
      const end = at + bytesOfCell(this.header, cell);
      if (end > bytes.length) break;
      cells.push({ ciphertext: bytes.subarray(at, end - 16), check: bytes.subarray(end - 16, end) });
      at = end;
    }
    return cells;
  }

  /** Whether a cell is intact where it stands. What passes is intact, and not proved to be genuine. */
  isIntact(cell: number, copy: CellCopy): boolean {
    const { volume, index } = this.placeOf(cell);
    return checkMatches(this.engine, this.header, DATA, volume, index, this.engine.blake3(copy.ciphertext), copy.check);
  }

  /** Looks at every cell that should be here, and gives the runs of those that are damaged in every copy. */
  async check(told: (bytes: number) => void, goOn: () => void): Promise<Damage[]> {
    const damaged: Damage[] = [];
    const missing = new Set(this.missing);
    for (let cell = 0; cell < this.header.cells; ) {
      goOn();
      const { volume, index } = this.placeOf(cell);
      const isMissing = missing.has(volume);
      const most = Math.min(BATCH_CELLS, cellsIn(this.header, volume) - index);
      const cells = isMissing ? [] : await this.read(cell, most);
      for (let place = 0; place < most; place += 1, cell += 1) {
        const here = cells[place];
        if (isMissing || (here && this.isIntact(cell, here))) continue;
        const others = await this.copies(cell);
        if (!others.some(copy => this.isIntact(cell, copy))) put(damaged, volume, cell);
      }
      told(most * this.header.cellBytes);
    }
    return damaged;
  }
}

function put(damaged: Damage[], volume: number, cell: number): void {
  const before = damaged.at(-1);
  if (before && before.volume === volume && before.last === cell - 1) before.last = cell;
  else damaged.push({ volume, first: cell, last: cell });
}

function checkMatches(engine: Engine, header: Header, kind: number, volume: number, index: number, digest: Uint8Array, check: Uint8Array): boolean {
  const place = numbers([kind, 1], [volume, 4], [index, 4]);
  return areEqual(engine.blake3(joined(header.setId, header.cutId, place, digest)).subarray(0, 16), check);
}

/** Bytes of a file; undefined where it cannot be read. Fewer where it ends. */
async function readBytes(blob: Blob, from: number, length: number): Promise<Uint8Array | undefined> {
  try {
    return new Uint8Array(await blob.slice(from, from + length).arrayBuffer());
  } catch {
    return undefined;
  }
}

export interface Gathered {
  sets: VolumeSet[];
  /** Files that belong to no set, and why. */
  others: Found[];
}

/** Sorts files into sets. */
export async function gather(files: Given[], engine: Engine): Promise<Gathered> {
  const headers: { file: Given; header: Header }[] = [];
  const damaged: { file: Given; reason: Reason }[] = [];
  const others: Found[] = [];
  for (const file of files) {
    const bytes = await readBytes(file.blob, 0, HEADER_BYTES);
    try {
      if (!bytes) throw new Refusal('unreadable');
      headers.push({ file, header: readHeader(bytes, engine) });
    } catch (error) {
      const reason = error instanceof Refusal ? error.reason : 'unreadable';
      if (bytes && (reason === 'damaged header' || (reason === 'contradicts itself' && looksLikeVolume(bytes)))) damaged.push({ file, reason });
      else others.push({ name: file.name, bytes: file.blob.size, wrong: reason });
    }
  }
  const sets: VolumeSet[] = [];
  const tried = { left: MAX_TRIED_BYTES };
  const all = sidesOfSets(headers);
  // Of a set of which there are spare volumes only, beside another, nobody speaks.
  const isSpare = (sides: Member[][]) => sides.flat().every(({ header }) => header.kind === SPARE);
  const spoken = all.some(sides => !isSpare(sides)) ? all.filter(sides => !isSpare(sides)) : all;
  for (const { file } of all.filter(sides => !spoken.includes(sides)).flat(2)) others.push({ name: file.name, bytes: file.blob.size, wrong: 'of another archive' });
  const rivals: { set: VolumeSet; files: Given[] }[] = [];
  for (const [most, ...fewer] of spoken) {
    const set = await setOf(most!, engine);
    sets.push(set);
    for (const side of fewer) side.forEach(({ file }) => damaged.push({ file, reason: 'contradicts itself' }));
    for (const side of fewer.slice(0, MAX_RIVALS)) {
      const rival = await setOf(side, engine);
      set.rivals.push(rival);
      rivals.push({ set: rival, files: [most!, ...fewer].filter(other => other !== side).flat().map(({ file }) => file) });
    }
  }
  const recogniser = new Recogniser(sets, engine, tried);
  for (const { file, reason } of damaged) {
    if (!(await recogniser.recognise(file))) others.push({ name: file.name, bytes: file.blob.size, wrong: reason });
  }
  for (const { set, files } of rivals) {
    const recogniser = new Recogniser([set], engine, tried);
    for (const file of files) await recogniser.recognise(file);
  }
  return { sets, others };
}

type Member = { file: Given; header: Header };

/** Files of each set and cut, by what their headers say of it; what most say, which is believed, comes first. */
function sidesOfSets(headers: Member[]): Member[][][] {
  const sets = Map.groupBy(headers, one => hex(one.header.bytes.subarray(16, 48)));
  return Array.from(sets.values(), members =>
    Array.from(Map.groupBy(members, one => agreement(one.header)).values()).sort((one, other) => other.length - one.length));
}

async function setOf(members: Member[], engine: Engine): Promise<VolumeSet> {
  const set = new VolumeSet(members[0]!.header, engine);
  const inOrder = members.toSorted((one, other) => one.header.number - other.header.number);
  for (const { file, header } of inOrder) {
    if (header.kind === DATA) set.addVolume(file, header.number, false);
    if (header.kind === SPARE) set.addSpare(file, header.number, false);
  }
  for (const { file, header } of inOrder) {
    if (header.kind === SUPPLEMENT) await set.addSupplement(file);
  }
  return set;
}

interface Place {
  kind: number;
  number: number;
}

/** Knows a volume with a damaged header by its cells: their checks fit one number of one set only. */
class Recogniser {
  /** `tried` is how many bytes may still be hashed for all files. */
  constructor(private readonly sets: VolumeSet[], private readonly engine: Engine, private readonly tried: { left: number }) {}

  async recognise(file: Given): Promise<boolean> {
    for (const set of this.sets) {
      const bytes = await readBytes(file.blob, HEADER_BYTES, TRIED_CELLS * set.header.cellBytes);
      const volume = bytes && this.volumeOf(set, bytes);
      if (!volume) continue;
      if (volume.kind === SPARE) set.addSpare(file, volume.number, true);
      else set.addVolume(file, volume.number, true);
      return true;
    }
    return false;
  }

  private volumeOf(set: VolumeSet, bytes: Uint8Array): Place | undefined {
    const { header, missing } = set;
    const isMissing = new Set(missing);
    const upTo = (count: number) => Array.from({ length: count }, (_, place) => place + 1);
    const here = upTo(header.volumes).filter(number => !isMissing.has(number));
    // Where nothing says how many spare volumes there are, those that were made together with this one may say it.
    const spares = upTo(Math.max(header.spares, ...set.spareNumbers));
    const places = [...missing, ...here].map(number => ({ kind: DATA, number })).concat(spares.map(number => ({ kind: SPARE, number })));
    for (let index = 0; index < TRIED_CELLS; index += 1) {
      for (const { kind, number } of places) {
        if (index >= (kind === SPARE ? header.cellsAVolume : cellsIn(header, number))) continue;
        const length = kind === SPARE ? header.cellBytes : bytesOfCell(header, (number - 1) * header.cellsAVolume + index);
        const cell = bytes.subarray(index * header.cellBytes, index * header.cellBytes + length);
        this.tried.left -= TRY_BYTES;
        if (cell.length < length || this.tried.left < 0) continue;
        if (checkMatches(this.engine, header, kind, number, index, this.digestOf(cell), cell.subarray(length - 16))) return { kind, number };
      }
    }
    return undefined;
  }

  private last?: { cell: Uint8Array; digest: Uint8Array };

  /** A cell's digest, which many places are tried with. */
  private digestOf(cell: Uint8Array): Uint8Array {
    const last = this.last;
    if (last && last.cell.buffer === cell.buffer && last.cell.byteOffset === cell.byteOffset && last.cell.length === cell.length) return last.digest;
    const digest = this.engine.blake3(cell.subarray(0, cell.length - 16));
    this.tried.left -= cell.length;
    this.last = { cell, digest };
    return digest;
  }
}
