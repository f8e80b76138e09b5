/** An `EventTarget` (DOM standard) whose events are `CustomEvent`s with a `detail` of known type. */
export class TypedTarget<Events extends object> extends EventTarget {
  override addEventListener<K extends keyof Events & string>(
    type: K,
    listener: (event: CustomEvent<Events[K]>) => void,
    options?: boolean | AddEventListenerOptions,
  ): void;
  override addEventListener(
    type: string,
    listener: EventListenerOrEventListenerObject | null,
    options?: boolean | AddEventListenerOptions,
  ): void;
  override addEventListener(
    type: string,
    // biome-ignore lint/suspicious/noExplicitAny: the overloads above say what it may be
    listener: any,
    options?: boolean | AddEventListenerOptions,
  ): void {
    super.addEventListener(type, listener, options);
    this.listened(type);
  }

  /** Called after a listener was added. */
  protected listened(_type: string): void {}

  override removeEventListener<K extends keyof Events & string>(
    type: K,
    listener: (event: CustomEvent<Events[K]>) => void,
    options?: boolean | EventListenerOptions,
  ): void;
  override removeEventListener(
    type: string,
    listener: EventListenerOrEventListenerObject | null,
    options?: boolean | EventListenerOptions,
  ): void;
  override removeEventListener(
    type: string,
    // biome-ignore lint/suspicious/noExplicitAny: the overloads above say what it may be
    listener: any,
    options?: boolean | EventListenerOptions,
  ): void {
    super.removeEventListener(type, listener, options);
  }

  protected emit<K extends keyof Events & string>(type: K, detail: Events[K]): void {
    this.dispatchEvent(new CustomEvent(type, { detail }));
  }
}
