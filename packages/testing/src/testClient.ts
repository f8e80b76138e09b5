import { DrillClient, type DrillUser, expectFrames, expectNone, nodeNetwork, seededRandom } from '@nine-bells/drills';
import type { Json, Problem, PushKind, ReplyFrame } from '@nine-bells/wire';

/** A made-up user, as described by a token. */
export interface TestUser extends DrillUser {
  /** Lifetime of its token, in milliseconds. Default 1 h. */
  readonly forMs?: number;
}

/** The service that a client connects to. */
interface ConnectedService {
  readonly url: string;
  /** Signs a token for a made-up user. */
  tokenFor(user: string, about?: DrillUser, forMs?: number): Promise<string>;
}

/** The user and the transport of a client. */
export interface ClientWish extends TestUser {
  /** The user's id. Default: a guest. */
  readonly user?: string;
  readonly transport?: 'websocket' | 'stream' | 'poll';
}

export interface WaitOptions {
  /** Time limit, in milliseconds. Default 5,000. */
  readonly withinMs?: number;
}

type Members = Readonly<Record<string, Json>>;
/** The reply to a verb, as in docs/protocol.md. */
// biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
type Reply = any;

const usualMs = 5_000;
const usualForMs = 300;
let seeds = 0;

/** A client in a test. It sends requests and waits for pushes; its errors say what arrived instead. */
export class TestClient {
  readonly #client: DrillClient;

  constructor(service: ConnectedService, { user, transport = 'websocket', forMs, ...about }: ClientWish) {
    const startMs = performance.now();
    this.#client = new DrillClient({
      name: user ?? 'a guest',
      url: service.url,
      transport,
      token: user === undefined ? undefined : () => service.tokenFor(user, about, forMs),
      network: nodeNetwork(seededRandom(++seeds)),
      now: () => performance.now() - startMs,
    });
  }

  /** Connects. After `cut`, it resumes its session and its channels. */
  async connect(options: WaitOptions = {}): Promise<Reply> {
    return this.#done('hello', await this.#client.connect(options.withinMs ?? usualMs));
  }

  /** Sends a request and returns the reply. Throws if it is refused. */
  async say(verb: string, members: Members = {}, options: WaitOptions = {}): Promise<Reply> {
    return this.#done(verb, await this.#client.request(verb, members, options.withinMs ?? usualMs));
  }

  /** Sends a request that must be refused, and returns the problem. */
  async refused(verb: string, members: Members = {}, options: WaitOptions = {}): Promise<Problem> {
    const { problem } = await this.#client.request(verb, members, options.withinMs ?? usualMs);
    if (problem === undefined)
      throw new Error(`${this.#client.name}: \`${verb}\` was done, and should have been refused`);
    return problem;
  }

  enter(channel: string, members: Members = {}): Promise<Reply> {
    return this.say('enter', { channel, ...members });
  }

  publish(channel: string, data: Json, members: Members = {}): Promise<Reply> {
    return this.say('publish', { channel, data, ...members });
  }

  /**
   * Waits for a push that matches. Members that the pattern omits are ignored, at every depth. Each push is returned once.
   *
   * @throws {StepFailure} with the closest push, its differences, and possible reasons
   */
  async gets(on: PushKind, pattern: Json = {}, options: WaitOptions = {}): Promise<Reply> {
    const [found] = await expectFrames(this.#client, [{ on, pattern }], options.withinMs ?? usualMs);
    return found;
  }

  /** Checks that no matching push is queued or arrives within `forMs`. Default 300 ms. */
  getsNo(on: PushKind, pattern: Json = {}, { forMs = usualForMs }: { readonly forMs?: number } = {}): Promise<void> {
    return expectNone(this.#client, { on, pattern }, forMs);
  }

  /** Sends text unchanged, whether or not it is a valid frame. */
  send(text: string): void {
    this.#client.send(text);
  }

  /** Waits for the connection to end; returns the close code and its reason. */
  async ends(options: WaitOptions = {}): Promise<{ readonly code: number; readonly reason: string }> {
    const ended = await this.#client.until(() => this.#client.ended, options.withinMs ?? usualMs);
    if (ended === undefined) throw new Error(`the connection of ${this.#client.name} has not ended`);
    return ended;
  }

  /** Breaks the connection without a close frame. */
  cut(): void {
    this.#client.cut();
  }

  /** Closes the connection normally. */
  close(): void {
    this.#client.close();
  }

  /** Stops reading until `resume`. */
  pause(): void {
    this.#client.pause();
  }

  resume(): void {
    this.#client.resume();
  }

  #done(verb: string, reply: ReplyFrame): Reply {
    const { problem } = reply;
    if (problem === undefined) return reply;
    const { code, title, detail } = problem;
    throw Object.assign(new Error(`${this.#client.name}: \`${verb}\` was refused with ${code}: ${detail ?? title}`), {
      problem,
    });
  }
}
