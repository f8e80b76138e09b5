import type { ReceivedMessage } from './types.js';

/** Messages on their way to one `for await`. */
export class MessageQueue implements AsyncIterableIterator<ReceivedMessage> {
  readonly #onReturn: () => void;
  #messages: ReceivedMessage[] = [];
  #waiting: ((result: IteratorResult<ReceivedMessage>) => void)[] = [];
  #ended = false;

  constructor(onReturn: () => void) {
    this.#onReturn = onReturn;
  }

  push(message: ReceivedMessage): void {
    const waiting = this.#waiting.shift();
    if (waiting === undefined) this.#messages.push(message);
    else waiting({ value: message, done: false });
  }

  end(): void {
    this.#ended = true;
    for (const waiting of this.#waiting.splice(0)) waiting({ value: undefined, done: true });
  }

  next(): Promise<IteratorResult<ReceivedMessage>> {
    const message = this.#messages.shift();
    if (message !== undefined) return Promise.resolve({ value: message, done: false });
    if (this.#ended) return Promise.resolve({ value: undefined, done: true });
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  return(): Promise<IteratorResult<ReceivedMessage>> {
    this.#onReturn();
    this.#messages = [];
    this.end();
    return Promise.resolve({ value: undefined, done: true });
  }

  [Symbol.asyncIterator](): this {
    return this;
  }
}
