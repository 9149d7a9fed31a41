// Looking at one file without saving it. Nothing of it runs: text is shown as text, pictures as pictures, and a PDF in a closed
// frame by the browser's own viewer.

import type { Crew } from '../crew';
import { Refusal } from '../reader/refusal';
import { lastOf } from '../ways_out/names';
import { button, byId, element } from './elements';
import { refusal, shown, size } from './words';

const MAX_LOOKED_AT_BYTES = 100_000_000;
const MAX_SHOWN_TEXT = 500_000;

const PICTURES: { [extension: string]: string } = { png: 'image/png', jpg: 'image/jpeg', jpeg: 'image/jpeg', gif: 'image/gif', webp: 'image/webp', avif: 'image/avif', bmp: 'image/bmp', svg: 'image/svg+xml' };
const TEXTS = new Set(['txt', 'md', 'csv', 'tsv', 'log', 'json', 'xml', 'html', 'htm', 'css', 'js', 'ts', 'py', 'rs', 'c', 'h', 'toml', 'yaml', 'yml', 'ini', 'sh', 'tex', 'srt', 'ics', 'vcf', 'eml', '']);

export function typeOf(path: string): string | undefined {
  const name = lastOf(path);
  const extension = name.includes('.') ? name.slice(name.lastIndexOf('.') + 1).toLowerCase() : '';
  return PICTURES[extension] ?? (extension === 'pdf' ? 'application/pdf' : TEXTS.has(extension) ? 'text/plain' : undefined);
}

export function canBeLookedAt(path: string, bytes: number): boolean {
  return bytes <= MAX_LOOKED_AT_BYTES && typeOf(path) !== undefined;
}

export async function lookAt(crew: Crew, entry: number, path: string, bytes: number, save: () => void): Promise<void> {
  const dialog = byId<HTMLDialogElement>('look');
  const view = byId('look-view');
  byId('look-name').textContent = shown(lastOf(path));
  byId('look-told').textContent = `${shown(path)}, ${size(bytes)}`;
  byId('look-acts').replaceChildren(button('Save this file', save), button('Close', () => dialog.close(), 'quiet'));
  view.replaceChildren(element('p', { textContent: 'Opening …' }));
  dialog.showModal();
  let address: string | undefined;
  dialog.onclose = () => {
    view.replaceChildren();
    if (address) URL.revokeObjectURL(address);
  };
  try {
    const type = typeOf(path)!;
    const blob = await crew.reader.call<Blob>('look', [entry, type]);
    if (type === 'text/plain') {
      const text = await blob.slice(0, MAX_SHOWN_TEXT).text();
      const more = blob.size > MAX_SHOWN_TEXT ? [element('p', { className: 'small', textContent: `Only the first ${size(MAX_SHOWN_TEXT)} are shown.` })] : [];
      view.replaceChildren(element('pre', { textContent: text, tabIndex: 0 }), ...more);
    } else {
      address = URL.createObjectURL(blob);
      view.replaceChildren(type === 'application/pdf'
        ? element('iframe', { src: address, title: path })
        : element('img', { src: address, alt: path }));
    }
  } catch (error) {
    const { what, next } = refusal(error as Refusal);
    view.replaceChildren(element('p', { className: 'bad', textContent: what }), element('p', { textContent: next }));
  }
}
