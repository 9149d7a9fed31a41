// A volume that a page carries (docs/format.md 1.5): this page, which then opens it, or another one that was chosen.

import { joined } from './bytes';

const BEGIN = '<!DOCTYPE html>\n';
const LINE = /^under-seal-volume 1 (raw|b64) ([0-9a-f]{16}) ([0-9a-f]{16})$/;
/** Bytes of both lines. */
const TWO_LINES_BYTES = 81;

/** A file in base 64 is decoded whole, so only one that can be is. */
const MAX_DECODED_BYTES = 200_000_000;

/** Bytes of the volume in each element but the last, and what stands around its text. */
const ELEMENT_BYTES = 3 * 1024 * 1024;
const ELEMENT_BEGIN = '<script type="application/x-under-seal-volume">';
const ELEMENT_END = '</script>\n';
const ELEMENT_STRIDE = ELEMENT_BEGIN.length + (ELEMENT_BYTES / 3) * 4 + ELEMENT_END.length;

export interface InPage {
  /** It stands there as it is, up to the file's end; otherwise in base 64. */
  isRaw: boolean;
  from: number;
  bytes: number;
}

function parsed(comment: string): InPage | undefined {
  const [, form, from, bytes] = LINE.exec(comment) ?? [];
  const inside = { isRaw: form === 'raw', from: parseInt(from!, 16), bytes: parseInt(bytes!, 16) };
  return form && inside.from >= TWO_LINES_BYTES ? inside : undefined;
}

/** What this page carries. */
export function carriedHere(): InPage | undefined {
  const comment = document.doctype?.nextSibling;
  return comment instanceof Comment ? parsed(comment.data) : undefined;
}

/** The volume that this page carries in base 64, once all of it is read. */
export async function volumeHere(): Promise<Blob> {
  if (document.readyState === 'loading') await new Promise(done => addEventListener('DOMContentLoaded', done));
  const elements = Array.from(document.querySelectorAll('script[type="application/x-under-seal-volume"]'));
  const parts = elements.map(carrier => {
    const bytes = decoded(carrier.textContent ?? '');
    carrier.remove();
    return bytes;
  });
  return new Blob(parts);
}

/** The volume in a file that is such a page; undefined for any other file. */
export async function volumeIn(file: Blob): Promise<Blob | undefined> {
  const opening = await file.slice(0, TWO_LINES_BYTES).text();
  const inside = opening.startsWith(`${BEGIN}<!--`) ? parsed(opening.slice(BEGIN.length + 4).split('-->')[0]!) : undefined;
  if (!inside || inside.isRaw) return inside && file.slice(inside.from, inside.from + inside.bytes);
  if (file.size > MAX_DECODED_BYTES) return undefined;
  const parts: Uint8Array<ArrayBuffer>[] = [];
  for (let at = inside.from; at < file.size; at += ELEMENT_STRIDE) {
    const text = await file.slice(at + ELEMENT_BEGIN.length, at + ELEMENT_STRIDE).text();
    parts.push(decoded(text.split('<')[0]!));
  }
  return new Blob(parts).slice(0, inside.bytes);
}

/** So many letters are given up together where one of them is wrong. */
const BLOCK_LETTERS = 4096;

/** What cannot be decoded stays zero: the cells that it belongs to are damaged. A text that was cut short may end within a group. */
function decoded(text: string): Uint8Array<ArrayBuffer> {
  const groups = text.slice(0, text.length - (text.length % 4));
  try {
    return Uint8Array.fromBase64 ? Uint8Array.fromBase64(groups) : Uint8Array.from(atob(groups), letter => letter.charCodeAt(0));
  } catch {
    if (groups.length <= BLOCK_LETTERS) return new Uint8Array((groups.length / 4) * 3);
    const blocks = Math.ceil(groups.length / BLOCK_LETTERS);
    return joined(...Array.from({ length: blocks }, (_, place) => decoded(groups.slice(place * BLOCK_LETTERS, (place + 1) * BLOCK_LETTERS))));
  }
}
