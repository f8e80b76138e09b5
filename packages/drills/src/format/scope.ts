import type { Json } from '@nine-bells/wire';
import { type Place, unknownWord } from '@nine-bells/yaml';
import type { Node } from 'yaml';
import { referencesIn } from '../values/references.js';

/** What every drill can refer to: a word that no other run has, and the number of one among like clients. */
export const givenNames = ['own', 'n'] as const;

/** The names that a step can refer to. */
export class Scope {
  readonly #names: Set<string>;

  constructor(names: Iterable<string>) {
    this.#names = new Set([...givenNames, ...names]);
  }

  add(name: string): void {
    this.#names.add(name);
  }

  /** What is known within steps of their own. */
  within(name?: string): Scope {
    return new Scope(name === undefined ? this.#names : [...this.#names, name]);
  }

  /** What has been captured within is known from now on. */
  join(inner: Scope): void {
    for (const name of inner.#names) this.#names.add(name);
  }

  /** Reports references to what is not known at this step. Returns whether there is none. */
  check(value: Json, node: Node | null, at: Place): boolean {
    const { names, fault } = referencesIn(value);
    if (fault !== undefined) {
      at.fault(node, fault);
      return false;
    }
    const missing = names.find((name) => !this.#names.has(name));
    if (missing === undefined) return true;
    at.fault(
      node,
      `$(${missing}): nothing before this step gives that name. ${unknownWord(missing, [...this.#names])}`,
    );
    return false;
  }
}
