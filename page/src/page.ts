// The page: one thing after the other, files, password, list, saving. The same script runs in its workers.

import { Crew } from './crew';
import type { Base } from './reader/index_pages';
import { carriedHere, volumeHere, type InPage } from './reader/in_page';
import { mayBeOpenToAll, passwordBytes, type Keys, type Secret } from './reader/keys';
import type { Refusal } from './reader/refusal';
import type { Found, Given } from './reader/volumes';
import { watchForFiles } from './ui/choosing';
import { button, byId, element } from './ui/elements';
import { List } from './ui/listing';
import { lookAt } from './ui/looking';
import { ProgressBar } from './ui/progress';
import { Saving } from './ui/saving';
import { showVolumes } from './ui/volumes';
import { count, date, numbers, ofFile, refusal, shown, shownText, size } from './ui/words';
import type { CheckTold, ListTold, SetTold } from './workers/desk';
import { asFileName } from './ways_out/names';
import { becomeWorker } from './workers/roles';

type Step = 'volumes' | 'unlock' | 'list';

class Page {
  private readonly given = new Map<string, Given>();
  private set?: SetTold;
  private checking?: ReturnType<typeof showVolumes>;
  /** What a look at every byte found, once it came to its end. */
  private checked?: CheckTold;

  /** `carried` is the volume that this page carries. */
  constructor(private readonly crew: Crew, private readonly carried?: InPage) {}

  begin(): void {
    watchForFiles(files => void this.take(files));
    byId<HTMLFormElement>('password-form').onsubmit = event => {
      event.preventDefault();
      void this.unlock();
    };
    byId<HTMLInputElement>('show-password').onchange = ({ target }) => {
      byId<HTMLInputElement>('password').type = (target as HTMLInputElement).checked ? 'text' : 'password';
    };
    // Where a browser has no storage for this page, nothing lies there.
    this.crew.reader.call('clear', []).catch(() => {});
    byId('again').onclick = () => location.reload();
    byId('again').hidden = this.carried !== undefined;
    if (this.carried && !this.carried.isRaw) {
      void volumeHere().then(blob => this.take([{ name: ownName(), blob }]));
      return;
    }
    if (this.carried) askForThisFile(this.carried.bytes);
    byId('loading').hidden = true;
    byId('choosing').hidden = false;
  }

  private show(...steps: Step[]): void {
    for (const step of ['volumes', 'unlock', 'list'] as const) byId(step).hidden = !steps.includes(step);
    document.documentElement.classList.toggle('begun', steps.length > 0);
    document.documentElement.classList.toggle('opened', steps.includes('list') && !steps.includes('volumes'));
  }

  private complain(where: string, error: unknown, ...more: Node[]): void {
    const { what, next } = refusal(error as Refusal);
    byId(where).replaceChildren(element('p', { className: 'bad', textContent: what, role: 'alert' }), element('p', { textContent: next }), ...more);
  }

  private async take(files: Given[]): Promise<void> {
    for (const file of files) this.given.set(`${file.name}/${file.blob.size}/${file.blob instanceof File ? file.blob.lastModified : ''}`, file);
    if (this.given.size === 0) return;
    this.checking?.stop();
    const { sets, others } = await this.crew.reader.call<{ sets: SetTold[]; others: Found[] }>('gather', [[...this.given.values()]]);
    byId('choosing-told').replaceChildren();
    byId('loading').hidden = true;
    // What else there could be to add is asked for where something is damaged.
    byId('choosing').hidden = this.carried !== undefined && sets.length === 1;
    if (sets.length === 0) {
      byId('choosing-told').replaceChildren(
        element('p', { className: 'bad', textContent: 'None of these files can be opened here.', role: 'alert' }),
        element('ul', {}, ...others.map(file => element('li', { textContent: ofFile(file) }))));
      this.given.clear();
      this.show();
      return;
    }
    if (sets.length > 1) this.chooseSet(sets, others);
    else await this.choose(sets[0]!, others);
  }

  private chooseSet(sets: SetTold[], others: Found[]): void {
    this.show();
    const describe = (set: SetTold) => {
      const name = set.found[0]?.name ?? '';
      return `${shown(name)} and its other files: ${count(set.header.volumes, 'volume')}, ${set.missing.length === 0 ? 'all here' : `missing ${numbers(set.missing)}`}`;
    };
    byId('choosing-told').replaceChildren(
      element('p', { textContent: 'These files belong to different archives. Which one do you want to open?' }),
      ...sets.map(set => element('p', {}, button(describe(set), () => void this.choose(set, others), 'second'))));
  }

  private async choose(told: SetTold, others: Found[]): Promise<void> {
    this.set = told;
    byId('unlock-told').replaceChildren();
    this.show('volumes');
    this.checked = undefined;
    const checking = (this.checking = showVolumes(this.crew, told, others));
    if (this.carried && others.length === 0) byId('volumes-told').textContent = `This page contains sealed files, ${size(told.bytes)}.`;
    void checking.checked.then(outcome => {
      if (this.checking !== checking) return;
      this.checked = outcome;
      if (outcome?.slip) byId('choosing').hidden = false;
    });
    try {
      // A set that needs no password does not go before one of the same ids that does.
      const isOpen = [told, ...told.rivals].every(set => mayBeOpenToAll(set.header));
      const keys = isOpen ? await this.crew.withKeys<Keys | undefined>('openToAll', told.header) : undefined;
      if (keys) {
        await this.open(keys);
        return;
      }
      this.show('volumes', 'unlock');
      byId('password').focus();
    } catch (error) {
      this.show('volumes', 'unlock');
      this.complain('unlock-told', error);
    }
  }

  private async unlock(): Promise<void> {
    const input = byId<HTMLInputElement>('password');
    const submit = byId<HTMLButtonElement>('unlock-act');
    submit.disabled = true;
    byId('unlock-told').replaceChildren(element('p', { textContent: 'Opening …', role: 'status' }));
    try {
      const keyFile = byId<HTMLInputElement>('key-file').files?.[0];
      const secret: Secret = { password: passwordBytes(input.value) };
      if (keyFile) secret.keyFile = new Uint8Array(await crypto.subtle.digest('SHA-256', await keyFile.arrayBuffer()));
      await this.open(await this.unlocked(secret));
      input.value = '';
    } catch (error) {
      this.complain('unlock-told', error);
      input.select();
    } finally {
      submit.disabled = false;
    }
  }

  /** Where headers contradict each other, whatever opens is the genuine set. */
  private async unlocked(secret: Secret): Promise<Keys> {
    const most = this.set!;
    let first: unknown;
    for (const set of [most, ...most.rivals]) {
      try {
        const keys = await this.crew.withKeys<Keys>('unlock', set.header, secret);
        this.set = set;
        return keys;
      } catch (error) {
        first ??= error;
      }
    }
    throw first;
  }

  private async open(keys: Keys): Promise<void> {
    const told = this.set!;
    this.checking?.stop();
    try {
      const list = await this.crew.reader.call<ListTold>('open', [told.number, keys]);
      // What spare volumes make good is recreated as it is read.
      const isLost = told.missing.length > 0 || (this.checked?.damaged.length ?? 0) > 0;
      const isLacking = isLost && (this.checked ? this.checked.slip !== undefined : told.spares < told.missing.length);
      this.showList(list, keys, isLacking ? this.lacking(keys) : undefined);
    } catch (error) {
      const { reason } = error as Refusal;
      if (reason !== 'volumes missing' && reason !== 'damaged') throw error;
      this.show('volumes', 'list');
      byId('list-body').hidden = true;
      this.complain('list-told', error, this.rescue(keys));
    }
  }

  /** With volumes missing, the list is whole and its files may not be. */
  private lacking(keys: Keys): HTMLElement {
    const { missing } = this.set!;
    const words = missing.length > 0
      ? `${missing.length === 1 ? 'volume' : 'volumes'} ${numbers(missing)} ${missing.length === 1 ? 'is' : 'are'} missing`
      : 'a part of the volumes is damaged';
    return element('div', { className: 'notice' },
      element('p', { textContent: `The list is complete, but ${words}. Files with a part in there cannot be saved.` }),
      this.rescue(keys));
  }

  private rescue(keys: Keys): HTMLElement {
    return button('Find the complete files', () => void this.salvage(keys), 'second');
  }

  /** Looks for what is whole, and shows that. */
  private async salvage(keys: Keys): Promise<void> {
    const { header } = this.set!;
    const work = this.crew.reader.call<ListTold>('salvage', [], bytes => bar.advance(bytes));
    const bar = new ProgressBar('Looking for complete files', header.cells * header.cellBytes, () => work.cancel());
    byId('list-body').hidden = true;
    byId('list-told').replaceChildren(bar.element);
    try {
      const list = await work;
      const { lost } = list;
      const words = lost
        ? `${count(lost.length, 'file')} ${lost.length === 1 ? 'is' : 'are'} lost or damaged. Every file in this list is complete.`
        : 'The table of contents is lost, so nobody can tell what is missing. Every file in this list is complete.';
      const names = element('ul', {}, ...(lost ?? []).slice(0, 500).map(path => element('li', { textContent: shown(path) })));
      const details = lost && lost.length > 0 ? element('details', {}, element('summary', { textContent: 'What is lost' }), names) : undefined;
      this.showList(list, keys, element('div', { className: 'notice' }, element('p', { textContent: words }), details));
    } catch (error) {
      this.complain('list-told', error);
    }
  }

  private showList(told: ListTold, keys: Keys, notice?: HTMLElement): void {
    this.show('list');
    const saving = new Saving(this.crew, told, asFileName(told.about.name), () => void this.salvage(keys));
    const list = new List(told, {
      look: entry => void lookAt(this.crew, entry, told.paths[entry]!, told.sizes[entry]!, () => void saving.save([entry])),
      save: entries => void saving.save(entries),
    });
    byId('list-title').textContent = shown(told.about.name || 'What is in here');
    byId('list-sums').textContent = `${count(list.files, 'file')}, ${size(list.bytes)}${told.about.made ? `, packed on ${date(told.about.made.seconds)}` : ''}.`;
    const message = told.about.message
      ? element('div', { className: 'message' }, element('p', { className: 'small', textContent: 'The sender says:' }), element('p', { className: 'words', textContent: shownText(told.about.message) }))
      : undefined;
    const open = keys.openToAll
      ? element('p', { className: 'notice', textContent: 'These files need no password. They are checked against accidents, but they are not secret, and anybody could have made them. If the sender gave you a password, these are not the files that the sender packed.' })
      : undefined;
    const hasKeyFile = (byId<HTMLInputElement>('key-file').files?.length ?? 0) > 0;
    const needless = hasKeyFile && !keys.openToAll && !keys.keyFileNeeded
      ? element('p', { className: 'notice', textContent: 'The password alone opens these files. The key file was not needed.' })
      : undefined;
    const changed = told.changedNames > 0
      ? element('p', { className: 'notice', textContent: `${count(told.changedNames, 'name')} cannot be written as text here, and ${told.changedNames === 1 ? 'is' : 'are'} changed.` })
      : undefined;
    byId('list-told').replaceChildren(...[message, baseNotice(told.about.base), open, needless, notice, changed].filter(one => one !== undefined));
    byId('list-body').hidden = false;
    byId('list-title').focus();
  }
}

/** That there are only changes here, and what is gone with them. */
function baseNotice(base: Base | undefined): HTMLElement | undefined {
  if (!base) return undefined;
  const words = `These are only the changes since ${shown(base.name || 'another archive')}, packed on ${date(base.made.seconds)}. Save them as a folder, and copy its contents over the files that you have from there.`;
  const names = base.gone.map(path => element('li', { textContent: shown(new TextDecoder().decode(path)) }));
  const gone = names.length > 0
    ? element('details', {}, element('summary', { textContent: `The sender removed ${count(names.length, 'file or folder', 'files and folders')}. Delete ${names.length === 1 ? 'it' : 'them'} yourself` }), element('ul', {}, ...names))
    : undefined;
  return element('div', { className: 'notice' }, element('p', { textContent: words }), gone);
}

/** What this page is called as a file. */
function ownName(): string {
  const last = location.pathname.split('/').at(-1) ?? '';
  try {
    return decodeURIComponent(last);
  } catch {
    return last;
  }
}

/** A long volume stands behind the page, where a browser lets a page look only once a person has chosen the file. */
function askForThisFile(bytes: number): void {
  byId('choosing-lead').replaceChildren(element('span', { textContent: 'Choose this file itself once more: ' }), element('span', { className: 'name', textContent: shown(ownName()) }));
  byId('choose').textContent = 'Choose this file';
  byId('choosing-more').textContent = `It contains ${size(bytes)} of sealed files. Browsers let a page read that much only after you have chosen the file. You can also drop it here.`;
}

async function start(): Promise<void> {
  const script = document.currentScript!.textContent!;
  const carried = carriedHere();
  // What stands behind this script is no text.
  if (carried?.isRaw) window.stop();
  try {
    if (!('groupBy' in Map)) throw new Error('too old');
    new Page(await Crew.hire(script), carried).begin();
  } catch {
    byId('loading').textContent = 'This browser is too old for this page, or does not let it run. Open the page in a newer browser.';
  }
}

/** A defect of the page itself is told, rather than that nothing happens. */
function tellDefects(): void {
  addEventListener('unhandledrejection', ({ reason }) => {
    const told = element('p', { className: 'bad', role: 'alert', textContent: `This page has a defect (${reason}). Reload it and try again, or use the program.` });
    byId('choosing').hidden = false;
    byId('choosing-told').replaceChildren(told);
    document.documentElement.classList.remove('opened');
  });
}

if (typeof document === 'undefined') becomeWorker();
else {
  tellDefects();
  void start();
}
