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
    const entries = Array.from(event.dataTransfer?.items ?? [], item => item.webkitGetAsEntry()).filter(entry => entry !== null);
    take(await unwrapped((await Promise.all(entries.map(filesBelow))).flat()));
  };
}

async function filesBelow(entry: FileSystemEntry): Promise<File[]> {
  if (entry.isFile) return new Promise((done, failed) => (entry as FileSystemFileEntry).file(file => done([file]), failed));
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const below: FileSystemEntry[] = [];
  for (;;) {
    // A folder is told in portions; an empty one ends it.
    const some = await new Promise<FileSystemEntry[]>((done, failed) => reader.readEntries(done, failed));
    if (some.length === 0) break;
    below.push(...some);
  }
  return (await Promise.all(below.map(filesBelow))).flat();
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
