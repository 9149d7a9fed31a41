// A volume's header (docs/format.md 1.1): read in the order in which it is to be believed.

import type { Engine } from '../engine';
import { Fields, areEqual, areZeros, hex } from './bytes';
import { Refusal } from './refusal';
import { Groups } from './spares';

export const HEADER_BYTES = 4096;
const MAGIC = [0xf5, 0x55, 0x53, 0x4c, 0x0d, 0x0a, 0x1a, 0x0a];
const CHECKED_BYTES = HEADER_BYTES - 32;
const MAX_CELL_BYTES = 65536;
const MAX_VOLUMES = 65535;

export const DATA = 0;
export const SPARE = 1;
export const SUPPLEMENT = 2;

export interface Header {
  bytes: Uint8Array;
  kind: number;
  setId: Uint8Array;
  cutId: Uint8Array;
  number: number;
  volumes: number;
  /** How many spare volumes were made with the data volumes. */
  spares: number;
  cellsAVolume: number;
  cells: number;
  lastCellBytes: number;
  cellBytes: number;
}

/** Whether a file begins as a volume does; a right one and a damaged one alike. */
export function looksLikeVolume(bytes: Uint8Array): boolean {
  return bytes.length >= 4 && (bytes[0]! | 0x80) === MAGIC[0] && areEqual(bytes.subarray(1, 4), Uint8Array.from(MAGIC.slice(1, 4)));
}

export function readHeader(bytes: Uint8Array, engine: Engine): Header {
  if (!looksLikeVolume(bytes)) throw new Refusal('not a volume');
  const magic = bytes.subarray(0, 8);
  if (!areEqual(magic, Uint8Array.from(MAGIC))) {
    throw new Refusal(bytes[0] === MAGIC[0] && magic.length < 8 ? 'damaged header' : 'moved as text');
  }
  if (bytes.length < HEADER_BYTES) throw new Refusal('damaged header');
  const check = engine.blake3(bytes.subarray(0, CHECKED_BYTES));
  if (!areEqual(check, bytes.subarray(CHECKED_BYTES))) throw new Refusal('damaged header');
  const fields = new Fields(bytes.subarray(8, 128));
  const [version, suite, kind, length] = [fields.u16(), fields.u8(), fields.u8(), fields.u32()];
  if (version !== 1 || suite !== 1) throw new Refusal('newer version');
  const [setId, cutId, number, volumes] = [fields.take(16), fields.take(16), fields.u32(), fields.u32()];
  const [spares, cellsAVolume, cells, lastCellBytes, cellBytes] = [fields.u32(), fields.u32(), fields.length64(), fields.u32(), fields.u32()];
  if (cellBytes === 0) throw new Refusal('unpublished draft');
  const isPermitted = (bytes: number) => bytes >= 4096 && bytes <= MAX_CELL_BYTES;
  // Some spare volumes may have been added since.
  const most = kind === SPARE ? new Groups(volumes).most : kind === SUPPLEMENT ? 1 : volumes;
  const agrees = kind <= SUPPLEMENT && length === HEADER_BYTES && areZeros(fields.take(48))
    && isPermitted(cellBytes) && cellBytes % 64 === 0
    && (lastCellBytes === cellBytes || (lastCellBytes >= 4096 && lastCellBytes < cellBytes && lastCellBytes % 4096 === 0))
    && cells >= 1 && cells <= 2 ** 32 && cellsAVolume >= 1 && cellsAVolume <= cells
    && volumes >= 1 && volumes <= MAX_VOLUMES && spares <= MAX_VOLUMES
    && volumes === Math.ceil(cells / cellsAVolume) && number >= 1 && number <= most;
  if (!agrees) throw new Refusal('contradicts itself');
  return { bytes, kind, setId, cutId, number, volumes, spares, cellsAVolume, cells, lastCellBytes, cellBytes };
}

/** What all headers of one set and cut have alike. */
export function agreement(header: Header): string {
  return hex(header.bytes.subarray(16, 48)) + hex(header.bytes.subarray(52, 80)) + hex(header.bytes.subarray(128, 4064));
}

/** How many cells a volume holds. */
export function cellsIn(header: Header, number: number): number {
  return Math.min(header.cellsAVolume, header.cells - (number - 1) * header.cellsAVolume);
}

/** How long a cell of the stream is. */
export function bytesOfCell(header: Header, cell: number): number {
  return cell === header.cells - 1 ? header.lastCellBytes : header.cellBytes;
}
