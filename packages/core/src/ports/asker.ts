import type { Answer, Question } from '../model/access.js';

/** Hands a question to the application. */
export interface Asker {
  /** @throws if there is no answer in time, or none that can be read; the message is for the operator */
  ask(url: string, question: Question): Promise<Answer>;
}
