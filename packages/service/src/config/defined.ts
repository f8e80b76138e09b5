/** Without the members that are `undefined`. */
export function defined<T extends object>(value: T): { [K in keyof T]?: NonNullable<T[K]> } {
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each !== undefined)) as never;
}
