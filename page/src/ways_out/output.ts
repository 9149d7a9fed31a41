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

/** Gathers pieces, and replaces what stood for others, there or where it lies already. */
abstract class Gathering implements Output {
  private gathered: Part[] = [];
  private gatheredBytes = 0;
  private at = 0;
  private replaced: Part[] = [];

  protected abstract flush(parts: Part[], replaced: Part[]): Promise<void>;
  protected abstract finish(): Promise<Blob | undefined>;
  abstract abort(): Promise<void>;

  async write(bytes: Uint8Array): Promise<void> {
    this.gathered.push({ bytes: new Uint8Array(bytes), at: this.at });
    this.at += bytes.length;
    this.gatheredBytes += bytes.length;
    if (this.gatheredBytes >= GATHERED_BYTES) await this.empty();
  }

  async placeholder(bytes: Uint8Array): Promise<(right: Uint8Array) => void> {
    const part = { bytes: new Uint8Array(bytes), at: this.at };
    this.gathered.push(part);
    this.at += bytes.length;
    this.gatheredBytes += bytes.length;
    return right => {
      part.bytes.set(right);
      if (!this.gathered.includes(part)) this.replaced.push(part);
    };
  }

  private async empty(): Promise<void> {
    const [parts, replaced] = [this.gathered, this.replaced];
    [this.gathered, this.replaced, this.gatheredBytes] = [[], [], 0];
    await this.flush(parts, replaced);
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

  protected async flush(parts: Part[], replaced: Part[]): Promise<void> {
    if (parts.length > 0) await this.stream.write({ type: 'write', position: parts[0]!.at, data: new Blob(parts.map(part => part.bytes)) });
    for (const { at, bytes } of replaced) await this.stream.write({ type: 'write', position: at, data: bytes });
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

  protected async flush(parts: Part[], replaced: Part[]): Promise<void> {
    for (const { at, bytes } of [...parts, ...replaced]) {
      if (this.file.write(bytes, { at }) !== bytes.length) throw new DOMException('', 'QuotaExceededError');
    }
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

  protected async flush(parts: Part[], replaced: Part[]): Promise<void> {
    if (parts.length > 0) this.parts.push({ blob: new Blob(parts.map(part => part.bytes)), at: parts[0]!.at });
    this.corrections.push(...replaced);
  }

  protected async finish(): Promise<Blob> {
    const pieces: Blob[] = [];
    for (const { blob, at } of this.parts) {
      let from = 0;
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
