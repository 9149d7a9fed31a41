// Further names of files (docs/format.md 3.4): they are recorded as links, and are files with the content of another.

import { areEqual } from './bytes';
import type { Listed } from './index_pages';
import { FILE, LINK, componentsOf } from './records';
import { malformed } from './refusal';

/** Turns those entries into the files that they are, each with its owner. */
export function asFiles(entries: Listed[], sharing: Map<bigint, bigint>): void {
  if (sharing.size === 0) return;
  const byId = new Map(entries.map(entry => [entry.id, entry]));
  for (const [id, ownerId] of sharing) {
    const [entry, owner] = [byId.get(id), byId.get(ownerId)];
    const isOwner = owner?.kind === FILE && !owner.owner;
    if (!entry || entry.kind !== LINK || !isOwner || !leadsTo(entry, owner)) throw malformed('a further name');
    const isSame = entry.mode === owner.mode && entry.seconds === owner.seconds && entry.nanoseconds === owner.nanoseconds;
    if (!isSame) throw malformed('a further name');
    Object.assign(entry, { kind: FILE, size: owner.size, changedWhileRead: owner.changedWhileRead, owner });
  }
}

/** Whether a link's target is the way from it to a file. */
function leadsTo(link: Listed, file: Listed): boolean {
  const [from, to] = [componentsOf(link.path).slice(0, -1), componentsOf(file.path)];
  let common = 0;
  while (common < from.length && common < to.length && areEqual(from[common]!, to[common]!)) common += 1;
  const up = from.slice(common).map(() => new TextEncoder().encode('..'));
  const expected = [...up, ...to.slice(common)];
  const found = componentsOf(link.target);
  return found.length === expected.length && found.every((component, place) => areEqual(component, expected[place]!));
}
