// Frames (docs/format.md 3.2): what stands in front of a payload, and how it is decompressed. Decoders accept more than the
// format allows, so what they are given is looked at before.

import type { Engine } from '../engine';
import { Fields } from './bytes';
import { Refusal, malformed } from './refusal';

export const FRAME_HEADER_BYTES = 16;
export const MAX_FRAME_BYTES = 8 << 20;

export const CONTENT = 1;
export const INDEX_PAGE = 2;
export const INDEX_ROOT = 3;
const PAD = 4;

export const STORED = 0;
const ZSTANDARD = 1;
const LZMA2 = 2;

export interface FrameHeader {
  kind: number;
  codec: number;
  storedBytes: number;
  bytes: number;
  /** Neither its codec nor its payload means anything. */
  passedOver: boolean;
}

export function readFrameHeader(header: Uint8Array): FrameHeader {
  const fields = new Fields(header);
  const [kind, flags, codec, zero, storedBytes, bytes, zeros] = [fields.u8(), fields.u8(), fields.u8(), fields.u8(), fields.u32(), fields.u32(), fields.u32()];
  const isKnown = kind >= CONTENT && kind <= PAD;
  if (!isKnown && !(flags & 0x80)) throw new Refusal('newer version');
  if (storedBytes > MAX_FRAME_BYTES) throw malformed('a frame is too long');
  if (flags & 0x7f || zero !== 0 || zeros !== 0) throw malformed('a frame\'s reserved bytes are not zero');
  const passedOver = !isKnown || kind === PAD;
  if (passedOver) return { kind, codec, storedBytes, bytes: 0, passedOver };
  if (codec > LZMA2) throw new Refusal('newer version');
  if (bytes > MAX_FRAME_BYTES || (codec === STORED ? storedBytes !== bytes : storedBytes >= bytes)) throw malformed('a frame\'s lengths');
  return { kind, codec, storedBytes, bytes, passedOver };
}

/** A payload before compression. */
export function decompressed(header: FrameHeader, payload: Uint8Array, engine: Engine): Uint8Array {
  if (header.codec === STORED) return payload;
  const bytes = header.codec === ZSTANDARD
    ? engine.zstandard(payload, header.bytes)
    : isPermittedStream(payload) ? engine.lzma2(payload, header.bytes) : undefined;
  if (!bytes) throw malformed('a frame does not decompress');
  return bytes;
}

/** The .xz file format, 1.2.1, 2.1.1: magic, and the stream flags for "no check". */
const STREAM_HEADER = [0xfd, 0x37, 0x7a, 0x58, 0x5a, 0, 0, 0];
const STREAM_HEADER_BYTES = 12;
const STREAM_FOOTER_BYTES = 12;

/** The same, 5.3. */
const DELTA = 0x03;
const X86 = 0x04;
const ARM64 = 0x0a;
const LZMA2_FILTER = 0x21;
const MAX_DICTIONARY = 22;

/** Whether a stream has no check, one block, and filters of those that the format allows. */
function isPermittedStream(stored: Uint8Array): boolean {
  try {
    return STREAM_HEADER.every((byte, place) => stored[place] === byte) && hasPermittedFilters(stored) && hasOneBlock(stored);
  } catch {
    return false;
  }
}

function hasPermittedFilters(stored: Uint8Array): boolean {
  const length = (stored[STREAM_HEADER_BYTES]! + 1) * 4;
  const fields = new Fields(stored.subarray(STREAM_HEADER_BYTES + 1, STREAM_HEADER_BYTES + length));
  const flags = fields.u8();
  if (flags & 0x40) integer(fields);
  if (flags & 0x80) integer(fields);
  const before = flags & 0x03;
  for (let filter = 0; filter < before; filter += 1) {
    const [number, properties] = [integer(fields), fields.take(integer(fields))];
    if (!(number === DELTA ? properties.length === 1 : (number === X86 || number === ARM64) && properties.length === 0)) return false;
  }
  const [last, properties] = [integer(fields), fields.take(integer(fields))];
  return before <= 1 && last === LZMA2_FILTER && properties.length === 1 && properties[0]! <= MAX_DICTIONARY;
}

/** The index says of how many blocks a stream is made (4.2), and the footer where it begins (2.1.2.2). */
function hasOneBlock(stored: Uint8Array): boolean {
  const footerAt = stored.length - STREAM_FOOTER_BYTES;
  const indexBytes = (new Fields(stored.subarray(footerAt + 4, footerAt + 8)).u32() + 1) * 4;
  const index = new Fields(stored.subarray(footerAt - indexBytes + 1, footerAt));
  return footerAt > indexBytes && integer(index) === 1;
}

/** A multibyte integer (1.2); none that matters here is longer than a number of JavaScript's. */
function integer(fields: Fields): number {
  let value = 0;
  for (let place = 0; place < 9; place += 1) {
    const byte = fields.u8();
    value += (byte & 0x7f) * 2 ** (7 * place);
    if (!(byte & 0x80)) return value;
  }
  throw malformed('an integer does not end');
}
