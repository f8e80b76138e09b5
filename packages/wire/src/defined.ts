/** The members that are there for certain, and those that may be, as optional ones. */
export type Defined<T> = { [K in keyof T as undefined extends T[K] ? never : K]: T[K] } & {
  [K in keyof T as undefined extends T[K] ? K : never]?: Exclude<T[K], undefined>;
};

/** The members of an object that are not `undefined`: JSON has no such value, and types tell an absent member from it. */
export function defined<const T extends object>(members: T): Defined<T> {
  const found: Partial<T> = {};
  for (const name in members) if (members[name] !== undefined) found[name] = members[name];
  return found as never;
}
