import type { ReviewAnswer, ReviewQuestion } from '../model/review.js';

/** Shows messages to the application before they are published. */
export interface Reviewer {
  /** @throws if there is no answer in time, or none that can be read; the message is for the operator */
  review(url: string, question: ReviewQuestion, withinMs: number): Promise<ReviewAnswer>;
}
