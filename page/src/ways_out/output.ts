// Where what comes out goes: a file that the browser writes for a person, piece by piece. Nothing of it is there before it is
// closed, and nothing of it stays where it is given up.

/** Bytes that are gathered before they are written. */
const GATHERED_BYTES = 8 << 20;

export interface Output {
  write(bytes: Uint8Array): Promise<void>;
  /** Bytes that stand for others, which are told later, as many. */
  placeholder(bytes: Uint8Array): Promise<(right: Uint8Array) => void>;
  /** All of it, where it is not written to a place that was chosen before. */
  close(): Promise<Blob | undefined>;
  abort(): Promise<void>;
}

interface Part {
  bytes: Uint8Array<ArrayBuffer>;
  at: number;
}

/** Gathers bytes, and replaces what stood for others, there or where it lies already. */
abstract class Gathering implements Output {
  private readonly gathered = new Uint8Array(GATHERED_BYTES);
  /** How many bytes are gathered, and how many were handed on before. */
  private length = 0;
  private before = 0;
  private replaced: Part[] = [];

  /** Writes a part, whose bytes are used again afterwards. */
  protected abstract put(part: Part): Promise<void> | void;
  protected abstract finish(): Promise<Blob | undefined>;
  abstract abort(): Promise<void>;

  async write(bytes: Uint8Array): Promise<void> {
    for (let from = 0; from < bytes.length; ) {
      if (this.length === GATHERED_BYTES) await this.empty();
      const some = bytes.subarray(from, from + GATHERED_BYTES - this.length);
      this.gathered.set(some, this.length);
      this.length += some.length;
      from += some.length;
    }
  }

  async placeholder(bytes: Uint8Array): Promise<(right: Uint8Array) => void> {
    if (this.length + bytes.length > GATHERED_BYTES) await this.empty();
    const at = this.before + this.length;
    await this.write(bytes);
    return right => {
      if (at >= this.before) this.gathered.set(right, at - this.before);
      else this.replaced.push({ at, bytes: new Uint8Array(right) });
    };
  }

  private async empty(): Promise<void> {
    if (this.length > 0) await this.put({ at: this.before, bytes: this.gathered.subarray(0, this.length) });
    for (const part of this.replaced) await this.put(part);
    this.before += this.length;
    [this.length, this.replaced] = [0, []];
  }

  async close(): Promise<Blob | undefined> {
    await this.empty();
    return this.finish();
  }
}

/** A file whose place a person chose. The browser keeps it apart until it is closed. */
export class ChosenFile extends Gathering {
  private constructor(private readonly stream: FileSystemWritableFileStream) {
    super();
  }

  static async open(handle: FileSystemFileHandle): Promise<ChosenFile> {
    return new ChosenFile(await handle.createWritable());
  }

  protected async put({ at, bytes }: Part): Promise<void> {
    await this.stream.write({ type: 'write', position: at, data: bytes });
  }

  protected async finish(): Promise<undefined> {
    await this.stream.close();
  }

  async abort(): Promise<void> {
    await this.stream.abort();
  }
}

/** Names in the browser's storage begin so. */
const STORED_PREFIX = 'opened-';

/** Deletes what was left in the browser's storage for downloads. */
export async function clearStored(): Promise<void> {
  const folder = await navigator.storage.getDirectory();
  for await (const name of folder.keys()) {
    if (name.startsWith(STORED_PREFIX)) await folder.removeEntry(name);
  }
}

/** The browser's own storage, where there are no pickers: the file is downloaded from there, and deleted then. */
export class StoredFile extends Gathering {
  private constructor(private readonly handle: FileSystemFileHandle, private readonly file: FileSystemSyncAccessHandle, private readonly folder: FileSystemDirectoryHandle) {
    super();
  }

  static async open(): Promise<StoredFile> {
    const folder = await navigator.storage.getDirectory();
    const handle = await folder.getFileHandle(STORED_PREFIX + crypto.randomUUID(), { create: true });
    return new StoredFile(handle, await handle.createSyncAccessHandle(), folder);
  }

  protected put({ at, bytes }: Part): void {
    if (this.file.write(bytes, { at }) !== bytes.length) throw new DOMException('', 'QuotaExceededError');
  }

  protected async finish(): Promise<Blob> {
    this.file.close();
    return this.handle.getFile();
  }

  async abort(): Promise<void> {
    this.file.close();
    await this.folder.removeEntry(this.handle.name);
  }
}

/** The browser's memory, which it lays off to its profile where it is not enough. */
export class InMemory extends Gathering {
  private readonly parts: { blob: Blob; at: number }[] = [];
  private readonly corrections: Part[] = [];
  private end = 0;

  protected put({ at, bytes }: Part): void {
    if (at < this.end) {
      this.corrections.push({ at, bytes });
      return;
    }
    this.parts.push({ blob: new Blob([bytes]), at });
    this.end = at + bytes.length;
  }

  protected async finish(): Promise<Blob> {
    const pieces: Blob[] = [];
    for (const { blob, at } of this.parts) {
      let from = 0;
      // A browser that has just been started may lose large ones, and says so to whoever reads.
      await blob.slice(0, 1).arrayBuffer().catch(() => {
        throw new DOMException('', 'QuotaExceededError');
      });
      const within = this.corrections.filter(part => part.at >= at && part.at < at + blob.size).sort((one, other) => one.at - other.at);
      for (const part of within) {
        pieces.push(blob.slice(from, part.at - at), new Blob([part.bytes]));
        from = part.at - at + part.bytes.length;
      }
      pieces.push(blob.slice(from));
    }
    return new Blob(pieces);
  }

  async abort(): Promise<void> {
    this.parts.length = 0;
  }
}
