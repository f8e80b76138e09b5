import type { Json } from '@nine-bells/wire';
import { type Place, unknownWord } from '@nine-bells/yaml';
import type { Node } from 'yaml';
import { referencesIn } from '../values/references.js';

/** Names every drill can use: `own`, a word unique to the run, and `n`, the number of a client in its group. */
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

  /** A copy for nested steps. */
  within(name?: string): Scope {
    return new Scope(name === undefined ? this.#names : [...this.#names, name]);
  }

  /** Adds what was captured in an inner scope, except the name that only its steps know. */
  join(inner: Scope, except?: string): void {
    for (const name of inner.#names) if (name !== except) this.#names.add(name);
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
