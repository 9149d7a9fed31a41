// Opening cells (docs/format.md 1.3, 3): each is sealed under its number in the stream, and the last one as the last.

import { Fields, joined, numbers } from './bytes';
import type { Keys } from './keys';
import { Refusal, malformed } from './refusal';
import type { CellCopy, VolumeSet } from './volumes';

/** What a cell has beside its part of the inner stream: ciphertext grows by tag and check, plaintext by mark and zeros. */
export const AROUND_BYTES = 36;
export const NO_MARK = 0xffff;

/** A cell's plaintext. */
export interface Cell {
  mark: number;
  part: Uint8Array;
}

export class Cells {
  /** Bytes of the inner stream in every cell but the last. */
  readonly partBytes: number;

  constructor(readonly volumes: VolumeSet, private readonly keys: Keys) {
    this.partBytes = volumes.header.cellBytes - AROUND_BYTES;
  }

  get count(): number {
    return this.volumes.header.cells;
  }

  /** Opens cells from `first` on; at least one, at most so many, and none behind one that cannot be had. */
  async open(first: number, most: number): Promise<Cell[]> {
    const copies = await this.volumes.read(first, most);
    if (copies.length === 0) return [this.parsed(await this.another(first))];
    const opened = await Promise.allSettled(copies.map((copy, place) => this.openOne(first + place, copy)));
    const cells: Cell[] = [];
    for (const outcome of opened) {
      if (outcome.status === 'fulfilled') cells.push(outcome.value);
      else if (cells.length > 0) break;
      else throw outcome.reason;
    }
    return cells;
  }

  private async openOne(cell: number, copy: CellCopy): Promise<Cell> {
    return this.parsed((await this.unsealed(cell, copy)) ?? (await this.another(cell)));
  }

  private parsed(plain: Uint8Array): Cell {
    const fields = new Fields(plain);
    const mark = fields.u16();
    if (fields.u16() !== 0) throw malformed('a cell\'s reserved bytes are not zero');
    return { mark, part: fields.take(fields.left) };
  }

  private async unsealed(cell: number, copy: CellCopy): Promise<Uint8Array | undefined> {
    const { bytes } = this.volumes.header;
    const number = numbers([cell, 8]).reverse();
    const iv = joined(Uint8Array.of(cell === this.count - 1 ? 1 : 0, 0, 0, 0), number);
    const additionalData = joined(bytes.subarray(0, 11), bytes.subarray(16, 32), bytes.subarray(76, 80));
    try {
      const sealed = copy.ciphertext as Uint8Array<ArrayBuffer>;
      return new Uint8Array(await crypto.subtle.decrypt({ name: 'AES-GCM', iv, additionalData }, this.keys.cells, sealed));
    } catch {
      return undefined;
    }
  }

  /** From any other copy, or recreated from spare volumes. */
  private async another(cell: number): Promise<Uint8Array> {
    for (const copy of await this.volumes.copies(cell)) {
      const plain = await this.unsealed(cell, copy);
      if (plain) return plain;
    }
    for await (const ciphertext of this.volumes.recreated(cell)) {
      const plain = await this.unsealed(cell, { ciphertext, check: new Uint8Array(0) });
      if (plain) return plain;
    }
    throw await this.refusalOf(cell);
  }

  /** Why a cell cannot be had: no copy here, every copy damaged, or one changed on purpose. */
  private async refusalOf(cell: number): Promise<Refusal> {
    const { volume } = this.volumes.placeOf(cell);
    if (this.volumes.missing.includes(volume)) return new Refusal('volumes missing', { volume, cell });
    const copies = await this.volumes.copies(cell);
    const onPurpose = copies.some(copy => this.volumes.isIntact(cell, copy));
    return new Refusal(onPurpose ? 'changed on purpose' : 'damaged', { volume, cell });
  }
}
