import {
  differences,
  expectFrames,
  expectNone,
  FrameQueue,
  type OutboundKind,
  type StandIn,
  type StandInAnswer,
} from '@nine-bells/drills';
import type { Outbound, OutboundAnswer, OutboundRequest } from '@nine-bells/service';
import type { Json } from '@nine-bells/wire';

/** A request of the service, as JSON: its `data`, or a hook's event. */
// biome-ignore lint/suspicious/noExplicitAny: tests look into requests freely
export type ReceivedRequest = any;

/** Functions that answer in place of the application. One that throws answers with status 500. */
export interface ApplicationFunctions {
  /** Answers access questions, as docs/access.md says, or with `true` or `false`. Default: all are allowed. */
  readonly ask?: (question: ReceivedRequest) => unknown;
  /** Answers review questions, as docs/moderation.md says, or with `true` or `false`. Default: all are allowed. */
  readonly review?: (question: ReceivedRequest) => unknown;
  /** Answers calls by name, as docs/webhooks.md says. Default: calls are refused. */
  readonly calls?: Readonly<Record<string, (call: ReceivedRequest) => unknown>>;
  /** Receives deliveries of hooks, by the hook's name. Default: all are accepted. */
  readonly hooks?: Readonly<Record<string, (event: ReceivedRequest) => unknown>>;
}

interface SetAnswer {
  readonly kind: OutboundKind;
  readonly to: Json;
  readonly answer: StandInAnswer;
}

/** Default time limit, in milliseconds, and default of `forMs`. */
const defaultWithinMs = 5_000;
const defaultForMs = 300;

/**
 * Replaces the application and the receivers of hooks: records the service's requests and answers them.
 */
export class StandInApplication implements StandIn {
  readonly name = 'the application';
  readonly #functions: ApplicationFunctions;
  readonly #requests = new FrameQueue();
  readonly #answers: SetAnswer[] = [];

  constructor(functions: ApplicationFunctions = {}) {
    this.#functions = functions;
  }

  get waiting(): FrameQueue['waiting'] {
    return this.#requests.waiting;
  }

  take(taken: FrameQueue['waiting'][number]): void {
    this.#requests.take(taken);
  }

  until<T>(look: () => T | undefined, withinMs: number): Promise<T | undefined> {
    return this.#requests.until(look, withinMs);
  }

  /** Sets the answer to requests of a kind that match `to`, from now on. The latest answer that matches is given. */
  answer(kind: OutboundKind, answer: StandInAnswer, to: Json = {}): void {
    this.#answers.unshift({ kind, answer, to });
  }

  /**
   * Waits for a request that matches, and returns it. Each request is returned once.
   *
   * @throws {StepFailure} with the closest request and its differences
   */
  async gets(
    kind: OutboundKind,
    pattern: Json = {},
    { withinMs = defaultWithinMs }: { readonly withinMs?: number } = {},
  ): Promise<ReceivedRequest> {
    const [found] = await expectFrames(this, [{ on: kind, pattern }], withinMs);
    return found;
  }

  /** Checks that no matching request has arrived, or arrives within `forMs`. Default 300 ms. */
  getsNo(
    kind: OutboundKind,
    pattern: Json = {},
    { forMs = defaultForMs }: { readonly forMs?: number } = {},
  ): Promise<void> {
    return expectNone(this, { on: kind, pattern }, forMs);
  }

  /** Answers a request of the service. */
  readonly receive: Outbound = async (request) => {
    const kind = request.kind === 'hook' ? 'delivery' : request.kind;
    const received = receivedIn(request);
    for (const each of received) this.#requests.push({ on: kind, url: request.url, ...each });
    this.#requests.changed();
    const [first = {}] = received;
    const set = this.#answers.find((each) => each.kind === kind && differences(each.to, first).length === 0)?.answer;
    const answering = set === undefined ? this.#byFunction(request, received) : answerOf(set);
    return inTime(answering, request.timeoutMs);
  };

  async #byFunction(
    { kind, name = '' }: OutboundRequest,
    received: readonly ReceivedRequest[],
  ): Promise<OutboundAnswer> {
    const { ask, review, calls = {}, hooks = {} } = this.#functions;
    try {
      switch (kind) {
        case 'ask':
        case 'review': {
          const given = (await (kind === 'ask' ? ask : review)?.(received[0])) ?? true;
          return ok(typeof given === 'boolean' ? { allow: given } : given);
        }
        case 'call':
          return ok(Object.hasOwn(calls, name) ? ((await calls[name]?.(received[0])) ?? {}) : unanswered(name));
        case 'hook':
          for (const event of received) await (Object.hasOwn(hooks, name) ? hooks[name]?.(event) : undefined);
          return ok({});
      }
    } catch (error) {
      return { status: 500, text: (error as Error).message };
    }
  }
}

/** The parts of a request that a test looks at: its data, or the events of a delivery. */
function receivedIn({ kind, name, body }: OutboundRequest): readonly (Json & object)[] {
  const value = JSON.parse(body);
  if (kind !== 'hook') return [value.data];
  const events = Array.isArray(value) ? value : [value];
  return events.map((event) => ({ hook: name, ...event }));
}

function unanswered(name: string): object {
  const text = `This test does not answer the call ${name}: pass it to TestService.start in \`calls\`, or set an answer with \`answers: call\` in a drill`;
  return { refuse: { code: 'unanswered-call', text } };
}

async function answerOf({ with: body = {}, status = 200, afterMs = 0 }: StandInAnswer): Promise<OutboundAnswer> {
  if (afterMs > 0) await new Promise((resolve) => setTimeout(resolve, afterMs));
  return { status, text: JSON.stringify(body) };
}

function ok(body: unknown): OutboundAnswer {
  return { status: 200, text: JSON.stringify(body) };
}

/** Rejects like a request over the network that gets no answer in time. */
function inTime<T>(answering: Promise<T>, timeoutMs: number): Promise<T> {
  return new Promise((resolve, reject) => {
    const late = setTimeout(() => reject(new Error(`no answer within ${timeoutMs} ms`)), timeoutMs);
    answering.then(resolve, reject).finally(() => clearTimeout(late));
  });
}
