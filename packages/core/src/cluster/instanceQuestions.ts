import type { Json } from '@nine-bells/wire';
import type { InstanceAnswers, InstanceQuestion } from '../model/instance.js';
import type { Clock } from '../ports/clock.js';

/** One answer of another instance. */
type InstanceAnswer = InstanceAnswers['answers'][number];

interface Asked {
  /** Instances that have not answered yet. */
  readonly open: Set<string>;
  readonly answers: InstanceAnswer[];
  done(): void;
}

export interface InstanceQuestionsHost {
  readonly clock: Clock;
  /** The other instances, with their names. */
  readonly others: () => ReadonlyMap<string, string>;
  readonly isLinked: () => boolean;
  readonly hasGone: (instanceId: string) => boolean;
  /** Says a question to all others. */
  readonly say: (ask: number, question: InstanceQuestion) => void;
}

/** Questions of this instance to all others, until each has answered or the time is over. */
export class InstanceQuestions {
  readonly #host: InstanceQuestionsHost;
  readonly #asked = new Map<number, Asked>();
  #lastId = 0;

  constructor(host: InstanceQuestionsHost) {
    this.#host = host;
  }

  ask<T>(question: InstanceQuestion, withinMs: number): Promise<InstanceAnswers<T>> {
    const { clock, others, isLinked, hasGone, say } = this.#host;
    const names = others();
    if (names.size === 0) return Promise.resolve({ answers: [], missing: [] });
    if (!isLinked()) return Promise.resolve({ answers: [], missing: [...names.values()] });
    const id = ++this.#lastId;
    return new Promise((resolve) => {
      const asked: Asked = {
        open: new Set(names.keys()),
        answers: [],
        done: () => {
          cancel();
          this.#asked.delete(id);
          // The instances run the same code: an answer has the shape that the question asks for.
          const answers = asked.answers.filter(
            (each) => !hasGone(each.instanceId),
          ) as unknown as InstanceAnswers<T>['answers'];
          resolve({ answers, missing: [...asked.open].map((each) => others().get(each) ?? each) });
        },
      };
      const cancel = clock.setTimer(withinMs, () => asked.done());
      this.#asked.set(id, asked);
      say(id, question);
    });
  }

  /** Takes an answer. An instance that has come in the meantime answers too. */
  answered(re: number, answer: { instance: string; instanceId: string; answer: Json }): void {
    const asked = this.#asked.get(re);
    if (asked === undefined) return;
    asked.answers.push(answer);
    asked.open.delete(answer.instanceId);
    if (asked.open.size === 0) asked.done();
  }

  /** Another instance has ended: its answer is not waited for. */
  gone(instanceId: string): void {
    for (const asked of [...this.#asked.values()])
      if (asked.open.delete(instanceId) && asked.open.size === 0) asked.done();
  }
}
