// Names as this system and a ZIP archive can have them: text, and each once.

import type { Listed } from '../reader/index_pages';
import { textOf } from '../reader/records';

/** A name for each entry, and how many had to be changed. */
export function names(entries: Listed[]): { of: Map<Listed, string>; changed: number } {
  const [of, taken] = [new Map<Listed, string>(), new Set<string>()];
  let changed = 0;
  for (const entry of entries) {
    const text = textOf(entry.path);
    // Some systems take it for what stands between folders.
    const plain = text.replaceAll('\\', '_');
    let name = plain;
    for (let again = 2; taken.has(name); again += 1) name = `${plain} (${again})`;
    if (name !== text || text.includes('\ufffd')) changed += 1;
    taken.add(name);
    of.set(entry, name);
  }
  return { of, changed };
}

/** What an archive's own name becomes as the name of a file or folder on any system. */
export function asFileName(name: string | undefined): string {
  return name?.replace(/[\\/:*?"<>|]/g, '_') || 'opened';
}

/** The last component of a path. */
export function lastOf(path: string): string {
  return path.slice(path.lastIndexOf('/') + 1);
}
