// What is made of what comes out: one ZIP archive (zip.ts), one file as it is, or files in a folder.

import { FILE, FOLDER } from '../reader/records';
import { ChosenFile, type Output } from './output';

/** What is to be known of an entry to save it. */
export interface Outgoing {
  name: string;
  kind: number;
  size: number;
  mode: number;
  seconds: number;
  /** Of a link. */
  target: Uint8Array;
}

/** Takes entries one after another; what was begun is there once it ended. */
export interface Maker {
  begin(entry: Outgoing): void | Promise<void>;
  data(bytes: Uint8Array): Promise<void>;
  end(): void | Promise<void>;
  /** Behind the last one. */
  finish(): void | Promise<void>;
}

/** The content alone, of one file. */
export class PlainFile implements Maker {
  constructor(private readonly output: Output) {}

  begin(): void {}

  data(bytes: Uint8Array): Promise<void> {
    return this.output.write(bytes);
  }

  end(): void {}

  finish(): void {}
}

/** A few files in a folder that a person chose: each is there once it is whole. Links cannot be made by a browser. */
export class InFolder implements Maker {
  private file?: Output;

  private constructor(private readonly root: FileSystemDirectoryHandle) {}

  /** In a folder of their own in the one that was chosen, so that nothing that lies there is written over. */
  static async new(chosen: FileSystemDirectoryHandle, name: string): Promise<InFolder> {
    for (let again = 1; ; again += 1) {
      const tried = again === 1 ? name : `${name} (${again})`;
      const isThere = await chosen.getDirectoryHandle(tried).then(() => true, (error: DOMException) => error.name !== 'NotFoundError');
      if (!isThere) return new InFolder(await chosen.getDirectoryHandle(tried, { create: true }));
    }
  }

  async begin({ name, kind }: Outgoing): Promise<void> {
    const components = name.split('/');
    const last = components.pop()!;
    let folder = this.root;
    for (const component of components) folder = await folder.getDirectoryHandle(component, { create: true });
    if (kind === FILE) this.file = await ChosenFile.open(await folder.getFileHandle(last, { create: true }));
    else if (kind === FOLDER) await folder.getDirectoryHandle(last, { create: true });
  }

  async data(bytes: Uint8Array): Promise<void> {
    await this.file!.write(bytes);
  }

  async end(): Promise<void> {
    await this.file?.close();
    this.file = undefined;
  }

  finish(): void {}
}
