import { DrillClient, expectFrames, expectNone, seededRandom } from '@nine-bells/drills';
import type { Json, Problem, PushKind, ReplyFrame } from '@nine-bells/wire';
import type { TestService, TestUser } from './testService.js';

/** Who a client is, and how it is connected. */
export interface ClientWish extends TestUser {
  /** Its user's id; a guest, if absent. */
  readonly user?: string;
  readonly transport?: 'websocket' | 'stream' | 'poll';
}

export interface WaitOptions {
  /** How long is waited, in milliseconds. Default 5,000. */
  readonly withinMs?: number;
}

type Members = Readonly<Record<string, Json>>;
/** The reply to a verb, as protocol.md has it. */
// biome-ignore lint/suspicious/noExplicitAny: tests look into frames freely
type Reply = any;

const usualMs = 5_000;
const usualForMs = 300;
let seeds = 0;

/** A client of a test: it says verbs, and awaits frames with messages that say what came instead. */
export class TestClient {
  readonly #client: DrillClient;

  constructor(service: TestService, { user, transport = 'websocket', forMs, ...about }: ClientWish) {
    const startMs = performance.now();
    this.#client = new DrillClient({
      name: user ?? 'a guest',
      url: service.url,
      transport,
      token: user === undefined ? undefined : () => service.tokenFor(user, about, forMs),
      random: seededRandom(++seeds),
      now: () => performance.now() - startMs,
    });
  }

  /** Connects, or comes back after `cut`: with its session, and with cursors for the channels that it was in. */
  async connect(options: WaitOptions = {}): Promise<Reply> {
    return this.#done('hello', await this.#client.connect(options.withinMs ?? usualMs));
  }

  /** Says a verb; gives the reply, and throws what it is refused with. */
  async say(verb: string, members: Members = {}, options: WaitOptions = {}): Promise<Reply> {
    return this.#done(verb, await this.#client.request(verb, members, options.withinMs ?? usualMs));
  }

  /** Says a verb that must be refused; gives the problem. */
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
   * Awaits a push that matches: of its members only those given count, at every depth. Each push is given once.
   *
   * @throws {StepFailure} with the nearest that came, how it differs, and why it may not have come
   */
  async gets(on: PushKind, pattern: Json = {}, options: WaitOptions = {}): Promise<Reply> {
    const [found] = await expectFrames(this.#client, [{ on, pattern }], options.withinMs ?? usualMs);
    return found;
  }

  /** Makes sure that no such push has come, nor comes for a while. */
  getsNo(on: PushKind, pattern: Json = {}, { forMs = usualForMs }: { readonly forMs?: number } = {}): Promise<void> {
    return expectNone(this.#client, { on, pattern }, forMs);
  }

  /** Sends a text as it is, maybe one that is no frame. */
  send(text: string): void {
    this.#client.send(text);
  }

  /** Awaits that the connection ends; gives the close code and its reason. */
  async ends(options: WaitOptions = {}): Promise<{ readonly code: number; readonly reason: string }> {
    const ended = await this.#client.until(() => this.#client.ended, options.withinMs ?? usualMs);
    if (ended === undefined) throw new Error(`the connection of ${this.#client.name} has not ended`);
    return ended;
  }

  /** Breaks the connection off without a word. */
  cut(): void {
    this.#client.cut();
  }

  /** Says goodbye. */
  close(): void {
    this.#client.close();
  }

  /** Reads nothing until `resume`. */
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
