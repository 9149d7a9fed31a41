// The digest of a content (docs/format.md 3.3): BLAKE3 of its bytes or, of a file with holes, of those units of it that are not all zeros.

import type { Engine, Hasher } from '../engine';
import { areZeros, numbers } from './bytes';

/** Holes begin and end at multiples of this. */
export const HOLE_UNIT = 65_536;

const ZEROS = new Uint8Array(HOLE_UNIT);

/** So many zeros, piece by piece. */
export function* zeros(bytes: number): Generator<Uint8Array> {
  for (let left = bytes; left > 0; left -= HOLE_UNIT) yield ZEROS.subarray(0, Math.min(left, HOLE_UNIT));
}

export class ContentDigest {
  private readonly hasher: Hasher;
  private inUnits = false;
  /** The number of the unit that is not complete, and what there is of it. */
  private unit = 0;
  private readonly begun = new Uint8Array(HOLE_UNIT);
  private length = 0;

  constructor(engine: Engine) {
    this.hasher = engine.hasher();
  }

  anew(inUnits: boolean): void {
    this.hasher.anew();
    this.inUnits = inUnits;
    [this.unit, this.length] = [0, 0];
  }

  take(bytes: Uint8Array): void {
    if (!this.inUnits) return this.hasher.take(bytes);
    for (let from = 0; from < bytes.length; ) {
      const some = bytes.subarray(from, from + HOLE_UNIT - this.length);
      this.begun.set(some, this.length);
      this.length += some.length;
      from += some.length;
      this.endIfComplete();
    }
  }

  /** So many zeros, a multiple of the unit, where a unit begins. */
  hole(bytes: number): void {
    this.unit += bytes / HOLE_UNIT;
  }

  tell(): Uint8Array {
    if (this.inUnits) {
      const size = this.unit * HOLE_UNIT + this.length;
      this.put();
      this.hasher.take(numbers([size, 8]));
    }
    return this.hasher.tell();
  }

  end(): void {
    this.hasher.end();
  }

  private endIfComplete(): void {
    if (this.length < HOLE_UNIT) return;
    this.put();
    this.unit += 1;
    this.length = 0;
  }

  private put(): void {
    const unit = this.begun.subarray(0, this.length);
    if (areZeros(unit)) return;
    this.hasher.take(numbers([this.unit, 8]));
    this.hasher.take(unit);
  }
}
