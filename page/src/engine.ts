// The WebAssembly module: primitives of docs/format.md that browsers have not. One instance a worker; memory that is lent to a
// library is its own, and every function here copies in and out.

declare const ENGINE_BASE64: string;

interface Exports {
  memory: WebAssembly.Memory;
  _initialize?(): void;
  allocate(bytes: number): number;
  release(at: number): void;
  argon2id(password: number, passwordBytes: number, salt: number, saltBytes: number, kibibytes: number, passes: number, lanes: number, output: number): number;
  hasher(): number;
  hasher_anew(hasher: number): void;
  hasher_keyed(hasher: number, key: number): void;
  hasher_take(hasher: number, at: number, length: number): void;
  hasher_tell(hasher: number, output: number): void;
  zstandard(output: number, length: number, stored: number, storedBytes: number, window: number): number;
  lzma2(output: number, length: number, stored: number, storedBytes: number, memory: number): number;
  crc32(before: number, at: number, length: number): number;
}

/** What a decompressor answers where bytes are not what they must be (engine.c). */
const MALFORMED = 0xffffffff;

/** Content is handed to the digests in pieces of so many bytes. */
const PIECE_BYTES = 1 << 20;

/** The largest window and dictionary that the format allows, and what LZMA2's decoder may take, in bytes. */
const WINDOW_BYTES = 8 << 20;
const DECODER_BYTES = 16 << 20;

export async function compileEngine(): Promise<WebAssembly.Module> {
  const packed = Uint8Array.from(atob(ENGINE_BASE64), letter => letter.charCodeAt(0));
  const stream = new Blob([packed]).stream().pipeThrough(new DecompressionStream('deflate-raw'));
  return WebAssembly.compile(await new Response(stream).arrayBuffer());
}

export class Engine {
  private readonly exports: Exports;
  private readonly piece: number;
  private readonly output: number;

  constructor(module: WebAssembly.Module) {
    this.exports = new WebAssembly.Instance(module).exports as unknown as Exports;
    this.exports._initialize?.();
    this.piece = this.allocate(PIECE_BYTES);
    this.output = this.allocate(32);
  }

  /** Argon2id, version 0x13: 32 bytes. */
  argon2id(password: Uint8Array, salt: Uint8Array, kibibytes: number, passes: number, lanes: number): Uint8Array {
    const [given, salted] = [this.lend(password), this.lend(salt)];
    const outcome = this.exports.argon2id(given, password.length, salted, salt.length, kibibytes, passes, lanes, this.output);
    this.bytes(given, password.length).fill(0);
    this.exports.release(given);
    this.exports.release(salted);
    if (outcome !== 0) throw new Error(`Argon2id ended with ${outcome}`);
    const secret = this.bytes(this.output, 32).slice();
    this.bytes(this.output, 32).fill(0);
    return secret;
  }

  hasher(key?: Uint8Array): Hasher {
    const at = this.exports.hasher();
    if (at === 0) throw new RangeError('no memory');
    if (key) {
      this.bytes(this.output, 32).set(key);
      this.exports.hasher_keyed(at, this.output);
    }
    return new Hasher(this, at);
  }

  /** BLAKE3 of some bytes, 32 bytes long. */
  blake3(...parts: Uint8Array[]): Uint8Array {
    const hasher = (this.once ??= this.hasher());
    hasher.anew();
    parts.forEach(part => hasher.take(part));
    return hasher.tell();
  }
  private once?: Hasher;

  /** The CRC-32 of what was before, and these bytes behind it. */
  crc32(bytes: Uint8Array, before: number): number {
    let sum = before;
    this.inPieces(bytes, (at, length) => (sum = this.exports.crc32(sum, at, length) >>> 0));
    return sum;
  }

  private inPieces(bytes: Uint8Array, take: (at: number, length: number) => void): void {
    for (let from = 0; from < bytes.length; from += PIECE_BYTES) {
      const piece = bytes.subarray(from, from + PIECE_BYTES);
      this.bytes(this.piece, piece.length).set(piece);
      take(this.piece, piece.length);
    }
  }

  /** @internal */ take(at: number, bytes: Uint8Array): void {
    this.inPieces(bytes, (piece, length) => this.exports.hasher_take(at, piece, length));
  }

  /** @internal */ anew(at: number): void {
    this.exports.hasher_anew(at);
  }

  /** @internal */ tell(at: number): Uint8Array {
    this.exports.hasher_tell(at, this.output);
    return this.bytes(this.output, 32).slice();
  }

  /** @internal */ end(at: number): void {
    this.exports.release(at);
  }

  /** The bytes of exactly one Zstandard frame; undefined where it is none, or not so long. */
  zstandard(stored: Uint8Array, length: number): Uint8Array | undefined {
    return this.decompressed(stored, length, (output, at) => this.exports.zstandard(output, length, at, stored.length, WINDOW_BYTES));
  }

  /** The bytes of one .xz stream; undefined where it is none, or not so long. */
  lzma2(stored: Uint8Array, length: number): Uint8Array | undefined {
    return this.decompressed(stored, length, (output, at) => this.exports.lzma2(output, length, at, stored.length, DECODER_BYTES));
  }

  private decompressed(stored: Uint8Array, length: number, run: (output: number, at: number) => number): Uint8Array | undefined {
    const [at, output] = [this.lend(stored), this.allocate(length)];
    const done = run(output, at) >>> 0 !== MALFORMED;
    const bytes = done ? this.bytes(output, length).slice() : undefined;
    this.exports.release(at);
    this.exports.release(output);
    return bytes;
  }

  private lend(bytes: Uint8Array): number {
    const at = this.allocate(bytes.length);
    this.bytes(at, bytes.length).set(bytes);
    return at;
  }

  private allocate(bytes: number): number {
    const at = this.exports.allocate(Math.max(bytes, 1)) >>> 0;
    if (at === 0) throw new RangeError('no memory');
    return at;
  }

  /** Memory grows and is another buffer then, so views are made anew each time. */
  private bytes(at: number, length: number): Uint8Array<ArrayBuffer> {
    return new Uint8Array(this.exports.memory.buffer as ArrayBuffer, at, length);
  }
}

/** A BLAKE3 digest that is under way. */
export class Hasher {
  constructor(private readonly engine: Engine, private readonly at: number) {}

  anew(): void {
    this.engine.anew(this.at);
  }

  take(bytes: Uint8Array): void {
    this.engine.take(this.at, bytes);
  }

  tell(): Uint8Array {
    return this.engine.tell(this.at);
  }

  end(): void {
    this.engine.end(this.at);
  }
}
