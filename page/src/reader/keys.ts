// The password and the keys (docs/format.md 2): from what a person types to the key that cells are sealed with.

import type { Engine } from '../engine';
import { Fields, areEqualSecretly, joined, numbers, owned } from './bytes';
import type { Header } from './header';
import { Refusal } from './refusal';

const HEAD_AT = 128;
const KEYHOLES_AT = 208;
const KEYHOLES = 8;
const KEYHOLE_BYTES = 80;
const EXTENSIONS_AT = 848;
const MAX_EXTENSION_BYTES = 3180;
const TAG_AT = 4032;
const MAX_PASSWORD_BYTES = 1024;

/** 2.2: beyond this nothing is computed unasked. */
const MAX_KIBIBYTES = 1048576;
const MAX_PASSES = 16;
const MAX_LANES = 16;
const MAX_WORK = 4194304;

/** The password of an archive that is not secret: everybody knows it, and nobody can choose it. */
const OPEN_TO_ALL = Uint8Array.of(1, ...new TextEncoder().encode('under-seal'));

export interface Cost {
  kibibytes: number;
  passes: number;
  lanes: number;
}

export interface Secret {
  /** As bytes, normalised. */
  password: Uint8Array;
  /** The SHA-256 of a key file. */
  keyFile?: Uint8Array;
}

export interface Keys {
  cells: CryptoKey;
  receipt: Uint8Array;
  /** Whether an archive is open to everybody, and so never authentic. */
  openToAll: boolean;
  keyFileNeeded: boolean;
}

/** From five words of small letters a to z on, a text is a passphrase, and how they are set apart does not count. */
const PASSPHRASE = /^[a-z]+(?:[ -]+[a-z]+){4,}$/;

/** The bytes of a password that was typed. */
export function passwordBytes(text: string): Uint8Array {
  const bytes = new TextEncoder().encode(PASSPHRASE.test(text) ? text.replace(/[ -]+/g, ' ') : text.normalize('NFC'));
  if (bytes.length < 1 || bytes.length > MAX_PASSWORD_BYTES || !text.isWellFormed() || /[\p{Cc}\p{Cn}\p{Co}\uFEFF]/u.test(text)) {
    throw new Refusal('impossible password');
  }
  return bytes;
}

export function costOf(header: Header): Cost {
  const fields = new Fields(header.bytes.subarray(HEAD_AT, HEAD_AT + 16));
  const [derivation, keyholes, kibibytes, passes, lanes] = [fields.u16(), fields.u16(), fields.u32(), fields.u32(), fields.u32()];
  if (derivation !== 1 || keyholes !== KEYHOLES) throw new Refusal('newer version');
  if (passes === 0 || lanes === 0 || kibibytes < 8 * lanes) throw new Refusal('malformed', { detail: 'the cost of a try is none' });
  if (kibibytes > MAX_KIBIBYTES || passes > MAX_PASSES || lanes > MAX_LANES || kibibytes * passes > MAX_WORK) throw new Refusal('too costly');
  return { kibibytes, passes, lanes };
}

/** Whether a head names the cost by which an archive that is not secret is known. */
export function mayBeOpenToAll(header: Header): boolean {
  const { kibibytes, passes, lanes } = costOf(header);
  return kibibytes === 8 && passes === 1 && lanes === 1;
}

/** Opens an archive that is not secret; undefined where it has a password. */
export async function unlockOpenToAll(header: Header, engine: Engine): Promise<Keys | undefined> {
  const key = await archiveKey(header, engine, { password: OPEN_TO_ALL });
  return key && keysOf(header, key.key, true, false);
}

export async function unlock(header: Header, engine: Engine, secret: Secret): Promise<Keys> {
  const key = await archiveKey(header, engine, secret);
  if (!key) throw new Refusal('wrong password');
  return keysOf(header, key.key, false, key.keyFileNeeded);
}

async function archiveKey(header: Header, engine: Engine, secret: Secret): Promise<{ key: Uint8Array; keyFileNeeded: boolean } | undefined> {
  const { kibibytes, passes, lanes } = costOf(header);
  const stretched = engine.argon2id(secret.password, header.bytes.subarray(144, 176), kibibytes, passes, lanes);
  const none = new Uint8Array(32);
  try {
    for (const keyFile of secret.keyFile ? [secret.keyFile, none] : [none]) {
      for (let keyhole = 0; keyhole < KEYHOLES; keyhole += 1) {
        const key = await opened(header, keyhole, joined(stretched, keyFile));
        if (key) return { key, keyFileNeeded: keyFile !== none };
      }
    }
    return undefined;
  } finally {
    stretched.fill(0);
  }
}

async function opened(header: Header, keyhole: number, input: Uint8Array): Promise<Uint8Array | undefined> {
  const from = KEYHOLES_AT + keyhole * KEYHOLE_BYTES;
  const fields = new Fields(header.bytes.subarray(from, from + KEYHOLE_BYTES));
  const [salt, wrapped] = [fields.take(32), fields.take(48)];
  const wrapping = await derived(input, salt, new Uint8Array(0));
  const key = await crypto.subtle.importKey('raw', owned(wrapping), 'AES-GCM', false, ['decrypt']);
  const algorithm = { name: 'AES-GCM', iv: new Uint8Array(12), additionalData: owned(header.bytes.subarray(HEAD_AT, 176)) };
  try {
    return new Uint8Array(await crypto.subtle.decrypt(algorithm, key, owned(wrapped)));
  } catch {
    return undefined;
  }
}

async function derived(input: Uint8Array, salt: Uint8Array, info: Uint8Array): Promise<Uint8Array> {
  const key = await crypto.subtle.importKey('raw', owned(input), 'HKDF', false, ['deriveBits']);
  return new Uint8Array(await crypto.subtle.deriveBits({ name: 'HKDF', hash: 'SHA-256', salt: owned(salt), info: owned(info) }, key, 256));
}

async function keysOf(header: Header, key: Uint8Array, openToAll: boolean, keyFileNeeded: boolean): Promise<Keys> {
  const of = (use: string) => {
    const info = joined(new TextEncoder().encode('under-seal'), numbers([1, 2], [1, 1]), new TextEncoder().encode(use));
    return derived(key, header.setId, info);
  };
  const [cells, head, commitment, receipt] = await Promise.all(['cells', 'head', 'commitment', 'receipt'].map(of));
  const { bytes } = header;
  const headKey = await crypto.subtle.importKey('raw', owned(head!), { name: 'HMAC', hash: 'SHA-256' }, false, ['sign']);
  const covered = joined(bytes.subarray(0, 11), bytes.subarray(16, 32), bytes.subarray(76, 80), bytes.subarray(HEAD_AT, TAG_AT));
  const tag = new Uint8Array(await crypto.subtle.sign('HMAC', headKey, covered));
  const agrees = [areEqualSecretly(commitment!, bytes.subarray(176, 208)), areEqualSecretly(tag, bytes.subarray(TAG_AT, 4064))];
  if (agrees.includes(false)) throw new Refusal('tampered');
  readExtensions(bytes);
  key.fill(0);
  const cellKey = await crypto.subtle.importKey('raw', owned(cells!), 'AES-GCM', false, ['decrypt']);
  return { cells: cellKey, receipt: receipt!, openToAll, keyFileNeeded };
}

/** Version 1 knows no extension: those that must be understood are of a newer one. */
function readExtensions(header: Uint8Array): void {
  const length = new Fields(header.subarray(EXTENSIONS_AT, EXTENSIONS_AT + 4)).u32();
  if (length > MAX_EXTENSION_BYTES) throw new Refusal('malformed', { detail: 'the head\'s extension records are too long' });
  const fields = new Fields(header.subarray(EXTENSIONS_AT + 4, EXTENSIONS_AT + 4 + length));
  while (fields.left > 0) {
    const type = fields.u16();
    fields.take(fields.u16());
    if (type & 0x8000) throw new Refusal('newer version');
  }
  new Fields(header.subarray(EXTENSIONS_AT + 4 + length, TAG_AT)).zeros(MAX_EXTENSION_BYTES - length);
}
