// Saving: one file as it is, several as one ZIP archive or in a folder; with progress, and the receipt in the end.

import type { Crew } from '../crew';
import { Refusal, type Reason } from '../reader/refusal';
import { FILE } from '../reader/records';
import { lastOf } from '../ways_out/names';
import type { ListTold, Saved } from '../workers/desk';
import type { Target } from '../workers/saver';
import { button, byId, copyable, element } from './elements';
import { ProgressBar } from './progress';
import { count, refusal, shown, size } from './words';

/** Browsers take long to close each file in a folder. */
const MAX_FOLDER_FILES = 100;

/** What ends with other files whole. */
const CAN_BE_RESCUED: Reason[] = ['damaged', 'volumes missing', 'changed on purpose'];

export class Saving {
  /** `rescue` looks for what is whole, where not all of it is. */
  constructor(private readonly crew: Crew, private readonly told: ListTold, private readonly name: string, private readonly rescue: () => void) {}

  /** Asks where to, and saves; without entries, all of them. */
  async save(entries: number[] | undefined): Promise<void> {
    const numbers = entries ?? this.told.paths.map((_, entry) => entry);
    const files = numbers.filter(entry => this.told.kinds[entry] === FILE);
    const isOne = numbers.length === 1 && files.length === 1;
    const path = this.told.paths[numbers[0]!] ?? '';
    const name = isOne ? lastOf(path) : `${this.name}.zip`;
    const canPickFolder = !isOne && files.length <= MAX_FOLDER_FILES && window.showDirectoryPicker !== undefined;
    if (canPickFolder) this.ask(entries, numbers, name);
    else await this.to(entries, numbers, name, !isOne, () => fileTarget(name));
  }

  /** One ZIP archive or a folder: a person decides. */
  private ask(entries: number[] | undefined, numbers: number[], name: string): void {
    const dialog = byId<HTMLDialogElement>('save');
    const choose = (isZip: boolean, target: () => Promise<Target>) => () => void this.to(entries, numbers, name, isZip, target);
    byId('save-body').replaceChildren(
      element('h2', { textContent: 'Save as' }),
      button('One ZIP file', choose(true, () => fileTarget(name))),
      element('p', { className: 'small', textContent: 'Every computer and telephone opens it. Times and links are kept.' }),
      button('Files in a folder', choose(false, async () => ({ folder: await window.showDirectoryPicker!({ mode: 'readwrite' }) })), 'second'),
      element('p', { className: 'small', textContent: 'They go into a new folder in the one that you choose.' }),
      button('Not now', () => dialog.close(), 'quiet'));
    dialog.showModal();
  }

  private async to(entries: number[] | undefined, numbers: number[], name: string, isZip: boolean, target: () => Promise<Target>): Promise<void> {
    const dialog = byId<HTMLDialogElement>('save');
    let chosen: Target;
    try {
      chosen = await target();
    } catch (error) {
      // Nothing was chosen: that is no failure.
      if (error instanceof DOMException && error.name === 'AbortError') return;
      if (!dialog.open) dialog.showModal();
      this.showFailed(new Refusal('not saved', { detail: String(error) }));
      return;
    }
    if (!dialog.open) dialog.showModal();
    const bytes = numbers.reduce((sum, entry) => sum + this.told.sizes[entry]!, 0);
    const work = this.crew.reader.call<Saved>('save', [entries, chosen, isZip], told => bar.advance(told));
    const bar = new ProgressBar(`Saving ${shown(name)}`, bytes, () => work.cancel());
    dialog.oncancel = event => event.preventDefault();
    byId('save-body').replaceChildren(element('h2', { textContent: 'Saving' }), bar.element);
    try {
      const saved = await work;
      const address = saved.blob && download(saved.blob, name);
      this.showDone(saved, address, name, 'download' in chosen && chosen.download === 'stored');
    } catch (error) {
      this.showFailed(error as Refusal);
    } finally {
      dialog.oncancel = null;
    }
  }

  private showFailed(error: Refusal): void {
    const dialog = byId<HTMLDialogElement>('save');
    const { what, next } = refusal(error);
    const rescue = button('Find the complete files', () => {
      dialog.close();
      this.rescue();
    });
    const canRescue = CAN_BE_RESCUED.includes(error.reason) && !this.told.salvaged;
    byId('save-body').replaceChildren(
      element('h2', { textContent: 'Not saved' }), element('p', { className: 'bad', textContent: what, role: 'alert' }), element('p', { textContent: next }),
      ...(canRescue ? [rescue] : []), button('Close', () => dialog.close(), canRescue ? 'quiet' : ''));
  }

  /** What was downloaded lies in the browser's storage too, until it is deleted there. */
  private clearing(): HTMLElement {
    const told = element('p', { className: 'small', textContent: 'There is a copy in this browser\'s storage. It is deleted when this page is opened again. You can also delete it now: ' });
    const clear = button('Delete that copy', async () => {
      await this.crew.reader.call('clear', []).catch(() => {});
      told.textContent = 'The copy in this browser\'s storage was deleted.';
    }, 'quiet');
    told.append(clear);
    return told;
  }

  private showDone(saved: Saved, address: string | undefined, name: string, isStored: boolean): void {
    const dialog = byId<HTMLDialogElement>('save');
    const done: HTMLElement[] = [
      element('h2', { textContent: 'Saved' }),
      element('p', { className: 'good', textContent: `${count(saved.files, 'file')}, ${size(saved.bytes)}: every byte is as it was packed.` }),
    ];
    if (address) {
      const again = element('a', { href: address, download: name, textContent: 'Save it again' });
      done.push(element('p', {}, 'It is in the folder in which your browser keeps downloads. ', again, '.'));
      if (isStored) done.push(this.clearing());
    }
    if (saved.receipt) {
      done.push(element('p', { textContent: 'Send the sender this receipt, a short code. It proves that everything arrived intact:' }), copyable(saved.receipt, 'receipt'));
    }
    byId('save-body').replaceChildren(...done, button('Done', () => dialog.close()));
  }
}

/** A place that a person picks, where a browser lets them; else a download. */
async function fileTarget(name: string): Promise<Target> {
  if (window.showSaveFilePicker) return { file: await window.showSaveFilePicker({ suggestedName: name }) };
  const hasStorage = await navigator.storage?.getDirectory?.().then(() => true, () => false);
  return { download: hasStorage ? 'stored' : 'memory' };
}

function download(blob: Blob, name: string): string {
  const address = URL.createObjectURL(blob);
  element('a', { href: address, download: name }).click();
  return address;
}
