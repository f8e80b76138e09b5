/** The element in a window that a selector finds; the template has one for each that is asked for. */
export function find<E extends HTMLElement>(within: HTMLElement, selector: string): E {
  return within.querySelector<E>(selector) as E;
}

export function element(tag: string, text: string): HTMLElement {
  const made = document.createElement(tag);
  made.textContent = text;
  return made;
}

export function button(text: string, act: () => void): HTMLButtonElement {
  const made = document.createElement('button');
  made.type = 'button';
  made.textContent = text;
  made.addEventListener('click', act);
  return made;
}

/** A list that stays at its end: a reader at the latest message still sees it after something that moves it. */
export function stayAtEnd(list: HTMLElement, act: () => void): void {
  const atEnd = list.scrollHeight - list.scrollTop - list.clientHeight < 40;
  act();
  if (atEnd) list.scrollTop = list.scrollHeight;
}
