// What people read: numbers, and what to do where something is wrong.

import type { Refusal, Reason } from '../reader/refusal';
import type { Found } from '../reader/volumes';

const UNITS = ['bytes', 'KB', 'MB', 'GB', 'TB'];

/** As the program writes sizes: three digits or so. */
export function size(bytes: number): string {
  let [value, unit] = [bytes, 0];
  for (; value >= 999.5 && unit < UNITS.length - 1; unit += 1) value /= 1000;
  return unit === 0 ? count(bytes, 'byte') : `${value.toFixed(value < 99.95 ? 1 : 0)} ${UNITS[unit]}`;
}

export function count(number: number, one: string, several = `${one}s`): string {
  return `${number.toLocaleString('en')} ${number === 1 ? one : several}`;
}

export function time(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  if (whole < 60) return count(whole, 'second');
  return whole < 3600 ? count(Math.round(whole / 60), 'minute') : count(Math.round(whole / 3600), 'hour');
}

export function date(seconds: number): string {
  const told = new Date(seconds * 1000);
  return Number.isNaN(told.getTime()) ? '' : told.toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' });
}

/** A name, in which nothing is invisible: control characters, and those that nobody sees or that turn the direction, with which a name
 * can feign another, as what they are. Joiners and variation selectors stay where they shape what is no ASCII. */
export function shown(name: string): string {
  return escaped(name, INVISIBLE);
}

const INVISIBLE = /\p{Cc}|(?![\u200C\u200D\uFE00-\uFE0F])[\p{DI}\u2028\u2029\uFFF9-\uFFFB]|(?<![^\0-\x7F\u200C\u200D\uFE00-\uFE0F][\u200C\u200D\uFE00-\uFE0F]*)[\u200C\u200D\uFE00-\uFE0F]/gu;

/** The same of a text that has lines. */
export function shownText(text: string): string {
  return escaped(text, INVISIBLE, '\n');
}

function escaped(text: string, letters: RegExp, but = ''): string {
  return text.replace(letters, letter => (letter === but ? letter : `\\u{${letter.codePointAt(0)!.toString(16)}}`));
}

/** Numbers as people tell them: 2, 4 to 6 and 9. */
export function numbers(all: number[]): string {
  const runs: [number, number][] = [];
  for (const number of all) {
    const last = runs.at(-1);
    if (last && last[1] === number - 1) last[1] = number;
    else runs.push([number, number]);
  }
  const told = runs.slice(0, 12).map(([from, to]) => (from === to ? `${from}` : to === from + 1 ? `${from} and ${to}` : `${from} to ${to}`));
  if (runs.length > 12) told.push('more');
  return told.length > 1 ? `${told.slice(0, -1).join(', ')} and ${told.at(-1)}` : told.join('');
}

/** Why a file is none of the volumes. */
const OF_FILES: Partial<Record<Reason, string>> = {
  'not a volume': 'is not a sealed volume and is not used',
  'moved as text': 'was changed on its way, because it was sent as text. Ask the sender for it again, as an attachment or in a ZIP archive',
  'damaged header': 'is damaged at its beginning, so nothing tells where it belongs. Ask the sender for it again',
  'newer version': 'was made by a newer version than this page knows. Ask for a newer page',
  'unpublished draft': 'was made by an unpublished draft of this format, which no program opens any more. Ask the sender to pack the files again',
  'contradicts itself': 'contradicts itself. Ask the sender for it again',
  'of another archive': 'is a spare volume of another archive and is not used',
  unreadable: 'cannot be read. Copy it to this computer first, then choose it again',
};

export function ofFile(file: Found): string {
  return `${shown(file.name)} ${OF_FILES[file.wrong!] ?? 'cannot be used'}.`;
}

/** What happened, and the next step. */
const OF_REASONS: Record<Reason, [string, string]> = {
  'of another archive': ['This belongs to another archive.', 'Choose the files that were sent together with it.'],
  'not a volume': ['These are not sealed files.', 'Choose the files that you were sent.'],
  'moved as text': ['A file was changed on its way.', 'Ask the sender for it again.'],
  'damaged header': ['A file is damaged.', 'Ask the sender for it again.'],
  'newer version': ['These files were made by a newer version than this page knows.', 'Ask the sender for a newer page.'],
  'unpublished draft': ['These files were made by an unpublished draft of this format.', 'Ask the sender to pack them again.'],
  'contradicts itself': ['A file contradicts itself.', 'Ask the sender for it again.'],
  'volumes missing': ['Not all volumes are here.', 'Add the missing ones, or save the files that are complete.'],
  'too costly': ['Trying a password would take too much memory or time.', 'Ask the sender whether these files are really theirs.'],
  'wrong password': ['This password does not open these files.', 'Check capitals, spaces at the ends and the keyboard layout. If there is a key file, choose it too. If you are sure, ask the sender.'],
  tampered: ['These files were changed on purpose: the password is right, and the rest does not belong to it.', 'Do not use them. Ask the sender, for example by phone.'],
  damaged: ['Something here is damaged.', 'Ask the sender for that volume again, or save the files that are complete.'],
  'changed on purpose': ['Something here was changed on purpose, by somebody who does not have the password.', 'Do not use it. Ask the sender, for example by phone.'],
  malformed: ['These files break the rules of their own format.', 'The program that made them made a mistake, or somebody means harm. Nothing more is read from them.'],
  'unsafe path': ['A name in here could lead to a place outside the folder that you save to.', 'Nothing is opened. Ask the sender, for example by phone.'],
  'impossible password': ['This cannot be a password: it is empty, too long, or has a character that is not allowed.', 'Type it again by hand.'],
  cancelled: ['You stopped it.', 'Nothing unfinished was kept.'],
  unreadable: ['A file cannot be read any more.', 'Copy the files to this computer, reload this page and choose them again.'],
  'no memory': ['This browser has too little memory for that.', 'Close other tabs, save a part of the files at a time, or use a computer.'],
  'not saved': ['It could not be saved.', 'There may be too little free space, or this browser may not write there. Choose another place.'],
};

export function refusal(error: Refusal): { what: string; next: string } {
  const [what, next] = OF_REASONS[error.reason];
  const { volume, path, detail } = error.place;
  const where = volume ? ` (volume ${volume})` : path ? ` (${shown(path)})` : (error.reason === 'malformed' || error.reason === 'not saved') && detail ? ` (${detail})` : '';
  return { what: what.replace(/([.:])/, `${where}$1`), next };
}
