// Choosing files: dropped, or picked, one by one or whole folders, and out of messages that were saved.

import PostalMime from 'postal-mime';
import { volumeIn } from '../reader/in_page';
import type { Given } from '../reader/volumes';
import { byId } from './elements';

/** A saved message is read whole, so only one that can be is. */
const MAX_MESSAGE_BYTES = 200_000_000;

/** Has chosen files handed to `take`, whichever way they come. */
export function watchForFiles(take: (files: Given[]) => void): void {
  const input = byId<HTMLInputElement>('files');
  byId('choose').onclick = () => input.click();
  input.onchange = async () => {
    take(await unwrapped(Array.from(input.files ?? [])));
    input.value = '';
  };
  const whole = document.documentElement;
  whole.ondragover = event => {
    event.preventDefault();
    whole.classList.add('dragged');
  };
  whole.ondragleave = event => {
    if (!event.relatedTarget) whole.classList.remove('dragged');
  };
  whole.ondrop = async event => {
    event.preventDefault();
    whole.classList.remove('dragged');
    // What was dropped can be asked for only before anything is waited for.
    const dropped = Array.from(event.dataTransfer?.items ?? [], filesOf);
    take(await unwrapped((await Promise.all(dropped)).flat()));
  };
}

/** The file that was dropped, or all files of a folder. A page that lies in a file gets folders in Chromium as handles, elsewhere as
 * entries. */
async function filesOf(item: DataTransferItem): Promise<File[]> {
  const entry = item.webkitGetAsEntry();
  if (!entry?.isDirectory) return [item.getAsFile()].filter(file => file !== null);
  const handle = await item.getAsFileSystemHandle?.();
  return handle ? filesUnder(handle as FileSystemDirectoryHandle) : filesBelow(entry as FileSystemDirectoryEntry);
}

async function filesUnder(folder: FileSystemDirectoryHandle): Promise<File[]> {
  const below: Promise<File[]>[] = [];
  for await (const handle of folder.values()) {
    below.push(handle.kind === 'file' ? (handle as FileSystemFileHandle).getFile().then(file => [file]) : filesUnder(handle as FileSystemDirectoryHandle));
  }
  return (await Promise.all(below)).flat();
}

async function filesBelow(folder: FileSystemDirectoryEntry): Promise<File[]> {
  const reader = folder.createReader();
  const below: FileSystemEntry[] = [];
  for (;;) {
    // A folder is told in portions; an empty one ends it.
    const some = await new Promise<FileSystemEntry[]>((done, failed) => reader.readEntries(done, failed));
    if (some.length === 0) break;
    below.push(...some);
  }
  const file = (entry: FileSystemEntry) => new Promise<File[]>((done, failed) => (entry as FileSystemFileEntry).file(file => done([file]), failed));
  return (await Promise.all(below.map(entry => (entry.isFile ? file(entry) : filesBelow(entry as FileSystemDirectoryEntry))))).flat();
}

/** Files as they are; of messages, what is attached to them; of pages, the volume that they carry. */
async function unwrapped(files: File[]): Promise<Given[]> {
  const given = await Promise.all(files.map(async (file): Promise<Given[]> => {
    const isMessage = /\.(eml|msg|mbox)$/i.test(file.name) || file.type === 'message/rfc822';
    const attached = isMessage && file.size <= MAX_MESSAGE_BYTES ? await attachmentsOf(file) : [];
    return attached.length > 0 ? attached : [{ name: file.name, blob: file }];
  }));
  return Promise.all(given.flat().map(async ({ name, blob }) => ({ name, blob: (await volumeIn(blob).catch(() => undefined)) ?? blob })));
}

async function attachmentsOf(message: File): Promise<Given[]> {
  try {
    const { attachments } = await PostalMime.parse(await message.arrayBuffer(), { attachmentEncoding: 'arraybuffer' });
    return attachments.map(({ filename, content }) => ({ name: filename ?? `attached to ${message.name}`, blob: new Blob([content as ArrayBuffer]) }));
  } catch {
    return [];
  }
}
