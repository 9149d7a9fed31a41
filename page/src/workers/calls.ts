// Calls from one worker to another: a name, values, one answer, and word of progress on the way.

import { Refusal, type Place, type Reason } from '../reader/refusal';

/** What answers calls; `told` sends word of progress to the caller, `goOn` ends the work where the caller cancelled it. */
export interface Ways {
  told(progress: unknown): void;
  goOn(): void;
}
/** By name; what values each takes is between it and its caller. */
export type Answers = { [name: string]: (ways: Ways, ...values: any[]) => unknown };

type Call = { call: number; name: string; values: unknown[] } | { cancel: number };
type Answer = { answer: number; value: unknown } | { answer: number; refused: { reason: Reason; place: Place } } | { told: number; progress: unknown };

/** Either end: a worker, a worker's own scope, or a port. */
export interface End {
  postMessage(message: unknown, transfer: Transferable[]): void;
  onmessage: ((event: MessageEvent) => void) | null;
}

export function answerCalls(end: End, answers: Answers): void {
  const cancelled = new Set<number>();
  end.onmessage = async ({ data }: MessageEvent<Call>) => {
    if ('cancel' in data) {
      cancelled.add(data.cancel);
      return;
    }
    const { call, name, values } = data;
    const ways: Ways = {
      told: progress => end.postMessage({ told: call, progress }, []),
      goOn: () => {
        if (cancelled.has(call)) throw new Refusal('cancelled');
      },
    };
    try {
      const value = await answers[name]!(ways, ...values);
      end.postMessage({ answer: call, value }, transferable(value));
    } catch (error) {
      end.postMessage({ answer: call, refused: refusalOf(error) }, []);
    }
  };
}

/** A frame's bytes are handed over rather than copied. */
function transferable(value: unknown): Transferable[] {
  return value instanceof Uint8Array ? [value.buffer] : [];
}

function refusalOf(error: unknown): { reason: Reason; place: Place } {
  if (error instanceof Refusal) return { reason: error.reason, place: error.place };
  const detail = String(error);
  if (error instanceof RangeError) return { reason: 'no memory', place: { detail } };
  if (error instanceof DOMException && error.name === 'NotReadableError') return { reason: 'unreadable', place: { detail } };
  return { reason: error instanceof DOMException ? 'not saved' : 'malformed', place: { detail } };
}

interface Waiting {
  done(value: unknown): void;
  failed(error: Refusal): void;
  told?: (progress: never) => void;
}

export class Caller {
  private readonly waiting = new Map<number, Waiting>();
  private last = 0;

  constructor(private readonly end: End) {
    end.onmessage = ({ data }: MessageEvent<Answer>) => this.receive(data);
  }

  private receive(answer: Answer): void {
    if ('told' in answer) {
      this.waiting.get(answer.told)?.told?.(answer.progress as never);
      return;
    }
    const waiting = this.waiting.get(answer.answer);
    this.waiting.delete(answer.answer);
    if ('refused' in answer) waiting?.failed(new Refusal(answer.refused.reason, answer.refused.place));
    else waiting?.done(answer.value);
  }

  call<T>(name: string, values: unknown[], told?: (progress: never) => void, transfer: Transferable[] = []): Promise<T> & { cancel(): void } {
    const call = (this.last += 1);
    const promise = new Promise<T>((done, failed) => this.waiting.set(call, { done: done as (value: unknown) => void, failed, told }));
    this.end.postMessage({ call, name, values }, transfer);
    return Object.assign(promise, { cancel: () => this.end.postMessage({ cancel: call }, []) });
  }
}
