// One ZIP archive of what comes out (the public application note, 6.3.10), stored as it is, with modes, links and times that a browser cannot
// set itself; ZIP64 where it must be.

import { numbers, joined } from '../reader/bytes';
import type { Engine } from '../engine';
import { FOLDER, LINK } from '../reader/records';
import type { Output } from './output';
import type { Maker, Outgoing } from './sinks';

const LOCAL = 0x04034b50;
const CENTRAL = 0x02014b50;
const END_OF_CENTRAL = 0x06054b50;
const END_OF_CENTRAL_64 = 0x06064b50;
const LOCATOR_64 = 0x07064b50;
const VERSION = 45;
const UNIX = 3;
/** Names are UTF-8. */
const FLAGS = 0x0800;
const LARGE = 0xffffffff;
const MANY = 0xffff;
/** Extra fields: ZIP64, and times as seconds since 1970. */
const ZIP64 = 0x0001;
const TIMES = 0x5455;
/** Kinds of files in a Unix mode. */
const UNIX_KINDS: { [kind: number]: number } = { [FOLDER]: 0o040000, [LINK]: 0o120000 };
const UNIX_FILE = 0o100000;

interface Member {
  name: Uint8Array;
  entry: Outgoing;
  size: number;
  crc: number;
  at: number;
}

export class ZipArchive implements Maker {
  private readonly members: Member[] = [];
  private at = 0;
  private crc = 0;
  private written = 0;
  private settle?: (right: Uint8Array) => void;

  constructor(private readonly output: Output, private readonly engine: Engine) {}

  async begin(entry: Outgoing): Promise<void> {
    const name = new TextEncoder().encode(entry.name + (entry.kind === FOLDER ? '/' : ''));
    const size = entry.kind === LINK ? entry.target.length : entry.size;
    this.members.push({ name, entry, size, crc: 0, at: this.at });
    [this.crc, this.written] = [0, 0];
    const header = localHeader(this.members.at(-1)!);
    this.settle = await this.output.placeholder(header);
    this.at += header.length;
    if (entry.kind === LINK) await this.data(entry.target);
  }

  async data(bytes: Uint8Array): Promise<void> {
    this.crc = this.engine.crc32(bytes, this.crc);
    this.written += bytes.length;
    this.at += bytes.length;
    await this.output.write(bytes);
  }

  async end(): Promise<void> {
    const member = this.members.at(-1)!;
    if (this.written !== member.size) throw new Error('a member is not as long as was told');
    member.crc = this.crc;
    this.settle!(localHeader(member));
  }

  /** Behind the last member. */
  async finish(): Promise<void> {
    const from = this.at;
    for (const member of this.members) await this.put(centralHeader(member));
    const [count, bytes] = [this.members.length, this.at - from];
    if (count >= MANY || from >= LARGE || bytes >= LARGE) {
      const end = this.at;
      await this.put(numbers([END_OF_CENTRAL_64, 4], [44, 8], [(UNIX << 8) | VERSION, 2], [VERSION, 2], [0, 4], [0, 4], [count, 8], [count, 8], [bytes, 8], [from, 8]));
      await this.put(numbers([LOCATOR_64, 4], [0, 4], [end, 8], [1, 4]));
    }
    const most = Math.min(count, MANY);
    await this.put(numbers([END_OF_CENTRAL, 4], [0, 2], [0, 2], [most, 2], [most, 2], [Math.min(bytes, LARGE), 4], [Math.min(from, LARGE), 4], [0, 2]));
  }

  private async put(bytes: Uint8Array): Promise<void> {
    await this.output.write(bytes);
    this.at += bytes.length;
  }
}

function localHeader({ name, entry, size, crc }: Member): Uint8Array {
  const isLarge = size >= LARGE;
  const extra = joined(isLarge ? numbers([ZIP64, 2], [16, 2], [size, 8], [size, 8]) : new Uint8Array(0), times(entry));
  const told = isLarge ? LARGE : size;
  const fields = numbers([LOCAL, 4], [VERSION, 2], [FLAGS, 2], [0, 2], ...dosTime(entry), [crc, 4], [told, 4], [told, 4], [name.length, 2], [extra.length, 2]);
  return joined(fields, name, extra);
}

function centralHeader({ name, entry, size, crc, at }: Member): Uint8Array {
  const [isLarge, isFar] = [size >= LARGE, at >= LARGE];
  const sizes: [number, number][] = isLarge ? [[size, 8], [size, 8]] : [];
  const place: [number, number][] = isFar ? [[at, 8]] : [];
  const wide = [...sizes, ...place];
  const extra = joined(wide.length > 0 ? numbers([ZIP64, 2], [8 * wide.length, 2], ...wide) : new Uint8Array(0), times(entry));
  const told = isLarge ? LARGE : size;
  // Set-user-id, set-group-id and sticky bits are set by nobody who extracts.
  const mode = (UNIX_KINDS[entry.kind] ?? UNIX_FILE) | (entry.kind === LINK ? 0o777 : entry.mode & 0o777);
  const attributes = mode * 65536 + (entry.kind === FOLDER ? 0x10 : 0);
  const fields = numbers([CENTRAL, 4], [(UNIX << 8) | VERSION, 2], [VERSION, 2], [FLAGS, 2], [0, 2], ...dosTime(entry), [crc, 4], [told, 4], [told, 4],
    [name.length, 2], [extra.length, 2], [0, 2], [0, 2], [0, 2], [attributes, 4], [isFar ? LARGE : at, 4]);
  return joined(fields, name, extra);
}

/** Seconds that 32 bits hold; others are told by the old fields alone. */
function times({ seconds }: Outgoing): Uint8Array {
  return Math.abs(seconds) < 2 ** 31 ? numbers([TIMES, 2], [5, 2], [1, 1], [seconds >>> 0, 4]) : new Uint8Array(0);
}

/** Time and date in the local time, to two seconds, from 1980 to 2107. */
function dosTime({ seconds }: Outgoing): [number, number][] {
  const date = new Date(seconds * 1000);
  const year = date.getFullYear();
  if (!(year >= 1980 && year <= 2107)) return [[0, 2], [0x21, 2]];
  const time = (date.getHours() << 11) | (date.getMinutes() << 5) | (date.getSeconds() >> 1);
  return [[time, 2], [((year - 1980) << 9) | ((date.getMonth() + 1) << 5) | date.getDate(), 2]];
}
