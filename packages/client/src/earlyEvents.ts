/** Maximum number of events held, and of characters of their JSON text. */
const maxEvents = 1_000;
const maxChars = 1_048_576;

/** Events that occurred before anybody listened. Above the bounds all are dropped, and none is held any more. */
export class EarlyEvents<E extends { readonly detail: object }> {
  #events: E[] | undefined = [];
  #chars = 0;

  add(event: E): void {
    if (this.#events === undefined) return;
    this.#chars += JSON.stringify(event.detail).length;
    this.#events.push(event);
    if (this.#events.length > maxEvents || this.#chars > maxChars) this.#events = undefined;
  }

  get isEmpty(): boolean {
    return this.#events?.length === 0;
  }

  /** The events in their order; `undefined` if there were too many. */
  get all(): readonly E[] | undefined {
    return this.#events;
  }
}
