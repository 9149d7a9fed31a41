// A bar with bytes, speed and the time that is left, and a button that ends the work.

import { button, element } from './elements';
import { size, time } from './words';

const TOLD_EVERY_MS = 200;

export class ProgressBar {
  readonly element: HTMLElement;
  private readonly bar = element('progress', { max: 1, value: 0 });
  private readonly words = element('p', { className: 'small', ariaLive: 'off' });
  private done = 0;
  private readonly started = performance.now();
  private shown = 0;

  constructor(what: string, private readonly total: number, cancel: () => void) {
    this.bar.ariaLabel = what;
    this.element = element('div', { className: 'progress' }, element('p', { textContent: what, role: 'status' }), this.bar, this.words, button('Stop', cancel, 'quiet'));
  }

  advance(bytes: number): void {
    this.done += bytes;
    const now = performance.now();
    if (now - this.shown < TOLD_EVERY_MS) return;
    this.shown = now;
    const [share, seconds] = [Math.min(1, this.done / Math.max(1, this.total)), (now - this.started) / 1000];
    this.bar.value = share;
    const left = seconds > 1 && share > 0.02 ? `, ${time((seconds * (1 - share)) / share)} left` : '';
    this.words.textContent = `${size(Math.min(this.done, this.total))} of ${size(this.total)}, ${size(this.done / Math.max(seconds, 0.001))} a second${left}`;
  }
}
