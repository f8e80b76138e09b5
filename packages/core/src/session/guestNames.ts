import { guestName } from './guests.js';

/** The names that guests of this instance have now: friendly, and no two alike. */
export class GuestNames {
  /** Per name, the numbers behind it that are in use; 1 is not written. */
  readonly #taken = new Map<string, Set<number>>();

  /** A name for a guest. The first with it gets it as it is, others with a number behind it. */
  take(id: string): string {
    const name = guestName(id);
    let numbers = this.#taken.get(name);
    if (numbers === undefined) {
      numbers = new Set();
      this.#taken.set(name, numbers);
    }
    let number = 1;
    while (numbers.has(number)) number += 1;
    numbers.add(number);
    return number === 1 ? name : `${name} ${number}`;
  }

  giveBack(taken: string): void {
    const [, name = '', number = '1'] = /^(\D+?)(?: (\d+))?$/.exec(taken) ?? [];
    const numbers = this.#taken.get(name);
    numbers?.delete(Number(number));
    if (numbers?.size === 0) this.#taken.delete(name);
  }
}
