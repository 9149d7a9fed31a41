// Making elements in one line each. Text is always text: nothing of an archive is ever read as HTML.

type Child = Node | string | undefined | false;

export function element<K extends keyof HTMLElementTagNameMap>(tag: K, properties: Partial<HTMLElementTagNameMap[K]> & { role?: string } = {}, ...children: Child[]): HTMLElementTagNameMap[K] {
  const made = document.createElement(tag);
  Object.assign(made, properties);
  made.append(...children.filter(child => child !== undefined && child !== false));
  return made;
}

export function byId<T extends HTMLElement>(id: string): T {
  return document.getElementById(id) as T;
}

export function button(text: string, act: () => void, className = ''): HTMLButtonElement {
  return element('button', { type: 'button', textContent: text, className, onclick: act });
}

/** Puts a text where it can be pasted from; says so. */
export function copyable(text: string, what: string): HTMLElement {
  const code = element('code', { textContent: text });
  const copied = element('span', { className: 'copied', ariaLive: 'polite' });
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      copied.textContent = 'Copied.';
    } catch {
      getSelection()?.selectAllChildren(code);
      copied.textContent = 'It is marked: copy it now.';
    }
  };
  return element('div', { className: 'code' }, code, button(`Copy the ${what}`, copy, 'quiet'), copied);
}
