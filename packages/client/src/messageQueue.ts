/** Messages on their way to one `for await`. */
export class MessageQueue<M> implements AsyncIterableIterator<M> {
  readonly #onReturn: () => void;
  #messages: M[] = [];
  #waiting: ((result: IteratorResult<M>) => void)[] = [];
  #ended = false;

  constructor(onReturn: () => void) {
    this.#onReturn = onReturn;
  }

  push(message: M): void {
    const waiting = this.#waiting.shift();
    if (waiting === undefined) this.#messages.push(message);
    else waiting({ value: message, done: false });
  }

  end(): void {
    this.#ended = true;
    for (const waiting of this.#waiting.splice(0)) waiting({ value: undefined, done: true });
  }

  next(): Promise<IteratorResult<M>> {
    const message = this.#messages.shift();
    if (message !== undefined) return Promise.resolve({ value: message, done: false });
    if (this.#ended) return Promise.resolve({ value: undefined, done: true });
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  return(): Promise<IteratorResult<M>> {
    this.#onReturn();
    this.#messages = [];
    this.end();
    return Promise.resolve({ value: undefined, done: true });
  }

  [Symbol.asyncIterator](): this {
    return this;
  }
}
