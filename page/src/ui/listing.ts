// The list of what is in an archive: by folder, with search, and a choice of what to save.

import { FILE, FOLDER, LINK } from '../reader/records';
import type { ListTold } from '../workers/desk';
import { button, byId, element } from './elements';
import { canBeLookedAt } from './looking';
import { count, date, shown, size } from './words';

/** Rows that are shown at once; more on demand. */
const ROWS = 300;

export interface ListActs {
  look(entry: number): void;
  save(entries: number[] | undefined): void;
}

/** What lies in a folder: entries' numbers, and for each folder below, what it holds. */
interface Row {
  name: string;
  path: string;
  entry?: number;
  isFolder: boolean;
  files: number;
  bytes: number;
}

export class List {
  private folder = '';
  private search = '';
  private shown = ROWS;
  private readonly chosen = new Set<number>();

  constructor(private readonly told: ListTold, private readonly acts: ListActs) {
    const search = byId<HTMLInputElement>('search');
    search.value = '';
    search.oninput = () => {
      [this.search, this.shown] = [search.value.trim().toLowerCase(), ROWS];
      this.draw();
    };
    const only = this.onlyFolder();
    if (only) this.folder = only;
    this.draw();
  }

  get files(): number {
    return this.told.kinds.reduce((sum, kind) => sum + (kind === FILE ? 1 : 0), 0);
  }

  get bytes(): number {
    return this.told.sizes.reduce((sum, bytes) => sum + bytes, 0);
  }

  /** Where everything lies in one folder, that one is shown. */
  private onlyFolder(): string | undefined {
    const first = this.told.paths[0]?.split('/')[0];
    return first !== undefined && this.told.paths.length > 1 && this.told.paths.slice(1).every(path => path.startsWith(first + '/')) ? first + '/' : undefined;
  }

  private rows(): Row[] {
    const rows = new Map<string, Row>();
    this.told.paths.forEach((path, entry) => {
      const kind = this.told.kinds[entry];
      const [isFile, bytes] = [kind === FILE ? 1 : 0, this.told.sizes[entry]!];
      if (this.search) {
        if (kind !== FOLDER && path.toLowerCase().includes(this.search)) rows.set(path, { name: path, path, entry, isFolder: false, files: isFile, bytes });
        return;
      }
      if (!path.startsWith(this.folder) || path.length === this.folder.length) return;
      const rest = path.slice(this.folder.length);
      const end = rest.indexOf('/');
      const name = end < 0 ? rest : rest.slice(0, end);
      const row = rows.get(name);
      if (row) {
        row.files += isFile;
        row.bytes += bytes;
        row.isFolder ||= end >= 0;
      } else {
        rows.set(name, { name, path: this.folder + name, entry: end < 0 ? entry : undefined, isFolder: end >= 0 || kind === FOLDER, files: isFile, bytes });
      }
    });
    return [...rows.values()].sort((one, other) => Number(other.isFolder) - Number(one.isFolder) || one.name.localeCompare(other.name, undefined, { numeric: true }));
  }

  /** The entries that a row stands for. */
  private entriesOf(row: Row): number[] {
    if (!row.isFolder) return [row.entry!];
    return this.told.paths.flatMap((path, entry) => (path === row.path || path.startsWith(row.path + '/') ? [entry] : []));
  }

  private draw(): void {
    const rows = this.rows();
    byId('crumbs').replaceChildren(...this.crumbs());
    byId('rows').replaceChildren(...rows.slice(0, this.shown).map(row => this.drawRow(row)));
    const more = rows.length > this.shown
      ? [button(`Show ${count(Math.min(ROWS, rows.length - this.shown), 'more', 'more')} of ${rows.length.toLocaleString('en')}`, () => {
          this.shown += ROWS;
          this.draw();
        }, 'quiet')]
      : rows.length === 0 ? [element('p', { textContent: this.search ? 'No name contains this.' : 'This folder is empty.' })] : [];
    byId('more').replaceChildren(...more);
    this.drawChosen();
  }

  private crumbs(): Node[] {
    if (this.search) return [element('span', { textContent: `Found by “${this.search}”` })];
    const parts = this.folder.split('/').slice(0, -1);
    const crumb = (name: string, folder: string) => button(shown(name), () => this.goTo(folder), 'crumb');
    const all = [crumb('All files', ''), ...parts.map((name, place) => crumb(name, parts.slice(0, place + 1).join('/') + '/'))];
    all.at(-1)!.ariaCurrent = 'page';
    return all;
  }

  private goTo(folder: string): void {
    [this.folder, this.shown] = [folder, ROWS];
    this.draw();
    byId('crumbs').querySelector<HTMLElement>('[aria-current]')?.focus();
  }

  private drawRow(row: Row): HTMLElement {
    const entries = row.isFolder ? undefined : [row.entry!];
    const isChosen = this.chosen.size > 0 && (entries ?? this.entriesOf(row)).every(entry => this.chosen.has(entry));
    const box = element('input', { type: 'checkbox', checked: isChosen, ariaLabel: `Choose ${shown(row.name)}` });
    box.onchange = () => {
      for (const entry of this.entriesOf(row)) this.chosen[box.checked ? 'add' : 'delete'](entry);
      this.drawChosen();
    };
    const act = row.isFolder ? () => this.goTo(row.path + '/') : () => this.acts.look(row.entry!);
    const canLook = row.isFolder || canBeLookedAt(row.path, row.bytes);
    const name = canLook && (row.isFolder || this.told.kinds[row.entry!] === FILE)
      ? button(shown(row.name), act, row.isFolder ? 'name folder' : 'name file')
      : element('span', { className: 'name file', textContent: shown(row.name) });
    const kind = row.entry === undefined || this.told.kinds[row.entry] !== LINK ? '' : 'link';
    const save = button('Save', () => this.acts.save(this.entriesOf(row)), 'quiet');
    save.ariaLabel = `Save ${shown(row.name)}`;
    return element('tr', {},
      element('td', { className: 'box' }, box),
      element('td', {}, name),
      element('td', { className: 'number' }, row.isFolder && element('span', { className: 'files', textContent: `${count(row.files, 'file')}, ` }), kind || size(row.bytes)),
      element('td', { className: 'when', textContent: row.entry === undefined ? '' : date(this.told.seconds[row.entry]!) }),
      element('td', { className: 'act' }, save));
  }

  private drawChosen(): void {
    const entries = [...this.chosen].sort((one, other) => one - other);
    const bytes = entries.reduce((sum, entry) => sum + this.told.sizes[entry]!, 0);
    const files = entries.filter(entry => this.told.kinds[entry] === FILE).length;
    const some = button(entries.length === 0 ? 'Save the chosen files' : `Save the chosen: ${count(files, 'file')}, ${size(bytes)}`, () => this.acts.save(entries), 'quiet');
    some.disabled = entries.length === 0;
    byId('list-acts').replaceChildren(button('Save everything', () => this.acts.save(undefined)), some);
  }
}
