import { Window } from './window.js';

// `?as=pia` shows one window; without it there are two, side by side.
const only = new URLSearchParams(location.search).get('as');
const windows = document.querySelector('#windows') as HTMLElement;
for (const user of only === null ? ['pia', 'jory'] : [only === 'guest' ? '' : only])
  windows.append(new Window(user).element);
