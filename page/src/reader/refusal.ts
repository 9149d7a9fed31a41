// Why something is not read: the errors of docs/format.md 7.2. What is told to people about each is in ../words.ts.

export type Reason =
  | 'not a volume' | 'moved as text' | 'damaged header' | 'newer version' | 'unpublished draft' | 'contradicts itself'
  | 'volumes missing' | 'too costly' | 'wrong password' | 'tampered' | 'damaged' | 'changed on purpose' | 'malformed'
  | 'unsafe path' | 'impossible password' | 'cancelled' | 'unreadable' | 'no memory' | 'not saved' | 'of another archive';

/** Where something is wrong: the volume's number and a cell's number in the stream, where they are known. */
export interface Place {
  volume?: number;
  cell?: number;
  path?: string;
  detail?: string;
}

export class Refusal extends Error {
  constructor(readonly reason: Reason, readonly place: Place = {}) {
    super(reason);
  }
}

/** Authentic bytes that break the format's rules; what is broken helps whoever made them. */
export function malformed(detail: string): Refusal {
  return new Refusal('malformed', { detail });
}
