// Numbers and comparisons in little-endian bytes, the way that all of the format is read.

import { malformed } from './refusal';

/** Reads fields one after the other, and never beyond the end. */
export class Fields {
  private at = 0;
  private readonly view: DataView;

  constructor(readonly bytes: Uint8Array) {
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  }

  get left(): number {
    return this.bytes.length - this.at;
  }

  take(length: number): Uint8Array {
    if (length > this.left) throw malformed('a field ends early');
    this.at += length;
    return this.bytes.subarray(this.at - length, this.at);
  }

  u8(): number {
    return this.take(1)[0]!;
  }

  u16(): number {
    this.take(2);
    return this.view.getUint16(this.at - 2, true);
  }

  u32(): number {
    this.take(4);
    return this.view.getUint32(this.at - 4, true);
  }

  u64(): bigint {
    this.take(8);
    return this.view.getBigUint64(this.at - 8, true);
  }

  i64(): bigint {
    this.take(8);
    return this.view.getBigInt64(this.at - 8, true);
  }

  /** A length or a place. None beyond 2^53 can be had in a browser. */
  length64(): number {
    const value = this.u64();
    if (value > BigInt(Number.MAX_SAFE_INTEGER)) throw malformed('a length beyond 2^53');
    return Number(value);
  }

  zeros(length: number): void {
    if (!areZeros(this.take(length))) throw malformed('reserved bytes are not zero');
  }

  end(): void {
    if (this.left !== 0) throw malformed('bytes are left over');
  }
}

export function areZeros(bytes: Uint8Array): boolean {
  return bytes.every(byte => byte === 0);
}

export function areEqual(one: Uint8Array, other: Uint8Array): boolean {
  return one.length === other.length && one.every((byte, place) => byte === other[place]);
}

/** The same in a time that does not tell where they differ, for what is secret. */
export function areEqualSecretly(one: Uint8Array, other: Uint8Array): boolean {
  let difference = one.length ^ other.length;
  one.forEach((byte, place) => (difference |= byte ^ (other[place] ?? 0)));
  return difference === 0;
}

/** By bytes, as the index is sorted component by component. */
export function order(one: Uint8Array, other: Uint8Array): number {
  const length = Math.min(one.length, other.length);
  for (let place = 0; place < length; place += 1) {
    if (one[place] !== other[place]) return one[place]! - other[place]!;
  }
  return one.length - other.length;
}

export function joined(...parts: Uint8Array[]): Uint8Array<ArrayBuffer> {
  const all = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0));
  let at = 0;
  for (const part of parts) {
    all.set(part, at);
    at += part.length;
  }
  return all;
}

/** Bytes that come in parts, and are taken in other ones. */
export class Parts {
  private readonly parts: Uint8Array[] = [];
  length = 0;

  push(part: Uint8Array): void {
    this.parts.push(part);
    this.length += part.length;
  }

  /** The first bytes in a buffer of their own; there must be so many. */
  peek(length: number): Uint8Array<ArrayBuffer> {
    const bytes = new Uint8Array(length);
    for (let [place, filled] = [0, 0]; filled < length; place += 1) {
      const some = this.parts[place]!.subarray(0, length - filled);
      bytes.set(some, filled);
      filled += some.length;
    }
    return bytes;
  }

  take(length: number): Uint8Array<ArrayBuffer> {
    const bytes = this.peek(length);
    for (let left = length; left > 0; ) {
      const part = this.parts[0]!;
      if (part.length <= left) this.parts.shift();
      else this.parts[0] = part.subarray(left);
      left -= Math.min(part.length, left);
    }
    this.length -= length;
    return bytes;
  }
}

/** Little-endian bytes of numbers, each with its length. */
export function numbers(...fields: [value: number | bigint, length: number][]): Uint8Array<ArrayBuffer> {
  const bytes: number[] = [];
  for (const [value, length] of fields) {
    let rest = BigInt(value);
    for (let place = 0; place < length; place += 1, rest >>= 8n) bytes.push(Number(rest & 255n));
  }
  return Uint8Array.from(bytes);
}

/** A view whose buffer is its own, as browsers' cryptography wants it. */
export function owned(bytes: Uint8Array): Uint8Array<ArrayBuffer> {
  return new Uint8Array(bytes);
}

export function hex(bytes: Uint8Array): string {
  return Array.from(bytes, byte => byte.toString(16).padStart(2, '0')).join('');
}
