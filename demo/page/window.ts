import { connect, type Line, type LineState } from '@nine-bells/client';
import { people, personOf } from '../src/people.js';
import { showBell } from './bell.js';
import { ChatPane } from './chatPane.js';
import { find, stayAtEnd } from './dom.js';
import { showMembers } from './members.js';
import { showOutbox } from './outboxBar.js';
import { addPlace, showPlaces } from './places.js';
import { Plug } from './plug.js';
import { errorText, stateText } from './words.js';

const channels = [
  'race/3/chat',
  'race/3/signals',
  'crew/petrel',
  'protest/7',
  'desk/results/3',
  'regatta/notices',
  'weather/north-mark',
  'quay/berths',
];
/** Channels where a skipper may declare a penalty turn. */
const signals = 'race/3/signals';

/** State of a window: a line and a channel. */
interface Shown {
  readonly line: Line;
  readonly chat: ChatPane;
  readonly plug: Plug;
  readonly stop: readonly (() => void)[];
}

/** One spectator's window. */
export class Window {
  readonly element: HTMLElement;
  readonly #person: HTMLSelectElement;
  readonly #place: HTMLSelectElement;
  #shown: Shown | undefined;
  #countdown: number | undefined;

  /** @param user - empty for a guest */
  constructor(user: string) {
    const template = document.querySelector<HTMLTemplateElement>('#window') as HTMLTemplateElement;
    this.element = (template.content.cloneNode(true) as DocumentFragment).firstElementChild as HTMLElement;
    this.#person = find(this.element, '.person');
    for (const person of people) this.#person.add(new Option(person.name, person.user));
    this.#person.add(new Option('a guest', ''));
    this.#person.value = user;
    this.#person.addEventListener('change', () => this.#watch());
    this.#place = find(this.element, '.channel');
    for (const channel of channels) this.#place.add(new Option(channel, channel));
    this.#place.addEventListener('change', () => this.#watch());
    find<HTMLFormElement>(this.element, 'form').addEventListener('submit', (event) => {
      event.preventDefault();
      void this.#shown?.chat.send();
    });
    find(this.element, '.plug').addEventListener('click', () => this.#togglePlug());
    find(this.element, '.turn').addEventListener('click', () => void this.#declareTurn());
    find(this.element, '.bell').addEventListener('click', () =>
      this.#openInbox(find(this.element, '.inbox').hidden === true),
    );
    this.#watch();
  }

  /** Connects as the chosen person, and shows the chosen channel. */
  #watch(): void {
    for (const each of this.#shown?.stop ?? []) each();
    const [user, pane, plug] = [this.#person.value, this.element, new Plug()];
    const isSkipper = personOf(user)?.roles.includes('skipper') === true;
    find(pane, '.turn').hidden = !isSkipper || this.#place.value !== signals;
    const line = connect(location.origin, {
      ...(user === '' ? {} : { token: () => fetchToken(user) }),
      WebSocket: plug.WebSocket,
    });
    const chat = new ChatPane(line, this.#place.value, user, pane);
    const show = (): void => this.#showState(line.state);
    const stop = [
      () => line.removeEventListener('state', show),
      showBell(line, pane, (channel) => this.#goTo(channel)),
      showPlaces(line, pane),
      showOutbox(line, pane),
      () => chat.close(),
      () => line.close(),
    ];
    this.#shown = { line, chat, plug, stop };
    showMembers(chat.entry, pane, (other) => this.#goTo(line.direct([other]).channel));
    line.addEventListener('state', show);
    show();
  }

  /** Asks the committee's application over the line; it answers with the number of the turn, and publishes it. */
  async #declareTurn(): Promise<void> {
    const { line, chat } = this.#shown as Shown;
    try {
      const { number } = await line.call<{ number: number }>('declare-turn', {}, { channel: signals });
      chat.say(`The committee has noted penalty turn ${number}.`);
    } catch (error) {
      chat.say(errorText(error));
    }
  }

  #goTo(channel: string): void {
    this.#openInbox(false);
    addPlace(this.#place, channel);
    this.#place.value = channel;
    this.#watch();
  }

  #openInbox(isOpen: boolean): void {
    stayAtEnd(find(this.element, '.messages'), () => {
      find(this.element, '.inbox').hidden = !isOpen;
    });
    find(this.element, '.bell').setAttribute('aria-expanded', String(isOpen));
  }

  #showState(state: LineState): void {
    clearInterval(this.#countdown);
    const isPulled = this.#shown?.plug.isPulled === true;
    const badge = find(this.element, '.state');
    badge.dataset.state = isPulled ? 'unplugged' : state.name;
    const tell = (): void => {
      badge.textContent = isPulled ? 'unplugged' : stateText(state);
    };
    tell();
    if (state.name === 'waiting') this.#countdown = window.setInterval(tell, 250);
    const isGuest = this.#person.value === '';
    this.#shown?.chat.mayTalk(state.name !== 'closed' && !isGuest);
    find<HTMLInputElement>(this.element, 'input').placeholder = isGuest
      ? 'Guests read along'
      : state.name === 'open'
        ? 'Say something (↑ to correct your last)'
        : 'Say something, to be sent later';
    find(this.element, '.plug').textContent = isPulled ? 'Plug in again' : 'Pull the plug';
    if (state.name === 'closed' && state.problem !== undefined) this.#shown?.chat.say(state.reason);
  }

  #togglePlug(): void {
    if (this.#shown === undefined) return;
    const { line, plug } = this.#shown;
    if (plug.isPulled) {
      plug.putIn();
      line.retryNow();
    } else plug.pull();
    this.#showState(line.state);
  }
}

async function fetchToken(user: string): Promise<string> {
  const response = await fetch(`/regatta/token?user=${encodeURIComponent(user)}`);
  const { token, detail } = (await response.json()) as { token?: string; detail?: string };
  if (token === undefined) throw new Error(detail ?? 'the regatta gives no token');
  return token;
}
