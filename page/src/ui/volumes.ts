// The volumes: which are here, which are missing or damaged, and what to ask the sender for.

import type { Crew } from '../crew';
import { Refusal } from '../reader/refusal';
import type { Found } from '../reader/volumes';
import type { CheckTold, SetTold } from '../workers/desk';
import { byId, copyable, element } from './elements';
import { ProgressBar } from './progress';
import { count, numbers, ofFile, refusal, shown, size } from './words';

/** So many volumes are drawn each by itself. */
const MAX_DRAWN = 200;

/** Shows a set, and looks at its bytes; calls back once it is known what is wrong. */
export function showVolumes(crew: Crew, set: SetTold, others: Found[]): { checked: Promise<CheckTold | undefined>; stop(): void } {
  const { header, missing } = set;
  const here = header.volumes - missing.length;
  byId('volumes-told').textContent = missing.length === 0
    ? `${header.volumes === 1 ? 'The one volume is' : `All ${header.volumes} volumes are`} here, ${size(set.bytes)}.`
    : `${here} of ${count(header.volumes, 'volume')} ${here === 1 ? 'is' : 'are'} here${set.spares > 0 ? `, and ${count(set.spares, 'spare volume')}` : ''}. Missing: ${numbers(missing)}.`;
  draw(set, new Set());
  const told = [...others, ...set.found.filter(file => file.wrong && file.wrong !== 'damaged')].filter(file => file.wrong).map(ofFile);
  told.push(...set.found.filter(file => file.byCells).map(file => `${shown(file.name)} is damaged at its beginning. Its content shows that it is ${file.spare ? `spare volume ${file.spare}` : `volume ${file.number}`}.`));
  const twice = set.found.filter(file => file.again).length;
  if (twice > 0) told.push(`${count(twice, 'file')} ${twice === 1 ? 'is' : 'are'} here more than once. That does no harm.`);
  byId('volumes-notes').replaceChildren(...told.map(textContent => element('li', { textContent })));
  const state = byId('volumes-state');
  const check = crew.reader.call<CheckTold>('check', [set.number], bytes => bar.advance(bytes));
  const bar = new ProgressBar('Checking every byte', (header.cells + set.spares * header.cellsAVolume) * header.cellBytes, () => check.cancel());
  state.replaceChildren(bar.element);
  const checked = check.then(
    outcome => {
      showCheck(set, outcome);
      return outcome;
    },
    (error: Refusal) => {
      const ended = error.reason === 'cancelled';
      state.replaceChildren(element('p', { textContent: ended ? 'You stopped the check. Every byte is checked again when the files are saved.' : refusal(error).what }));
      return undefined;
    },
  );
  return { checked, stop: () => check.cancel() };
}

function draw({ header, missing }: SetTold, damaged: Set<number>): void {
  const isMissing = new Set(missing);
  const chip = (number: number) => {
    const state = isMissing.has(number) ? 'missing' : damaged.has(number) ? 'damaged' : 'here';
    return element('li', { className: `volume ${state}`, ariaLabel: `Volume ${number}: ${state}`, title: `Volume ${number}: ${state}`, textContent: `${number}` });
  };
  const drawn = Array.from({ length: Math.min(header.volumes, MAX_DRAWN) }, (_, place) => chip(place + 1));
  byId('volumes-drawn').replaceChildren(...(header.volumes > 1 ? drawn : []));
}

function showCheck(set: SetTold, { damaged, slip }: CheckTold): void {
  const volumes = [...new Set(damaged.map(run => run.volume))];
  draw(set, new Set(volumes));
  const state = byId('volumes-state');
  if (!slip && (volumes.length > 0 || set.missing.length > 0)) {
    const words = 'The spare volumes make good what is missing or damaged. Nothing need be sent again.';
    state.replaceChildren(element('p', { className: 'good', textContent: words }));
    return;
  }
  if (!slip) {
    state.replaceChildren(element('p', { className: 'good', textContent: 'Every byte is intact.' }));
    return;
  }
  const cells = damaged.reduce((sum, run) => sum + run.last - run.first + 1, 0);
  const damage = `Damaged: ${size(cells * set.header.cellBytes)} at most, in ${volumes.length === 1 ? 'volume' : 'volumes'} ${numbers(volumes)}.`;
  state.replaceChildren(
    element('p', { className: volumes.length > 0 ? 'bad' : 'good', textContent: volumes.length > 0 ? damage : 'Every byte that is here is intact.' }),
    element('p', { textContent: 'Add the rest if you have it elsewhere. Otherwise send this code to the sender, who can then send only what is missing:' }),
    copyable(slip, 'code'),
    element('p', { className: 'small', textContent: 'With the password you can see what is in here already, and save the files that are complete.' }),
  );
}
