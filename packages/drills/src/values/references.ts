import type { Json } from '@nine-bells/wire';

/** Values that references such as `$(name)` resolve to. */
export type Values = Readonly<Record<string, Json>>;

/** `$(name)`, or `$(name.member.0)` for a part of it. `$$(name)` stands for the text `$(name)`. */
const reference = /\$?\$\(([^()]*)\)/g;
const wellFormed = /^[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z0-9_-]+)*$/;

/** Finds the names referenced in a value, and the first malformed reference. */
export function referencesIn(value: Json): { readonly names: readonly string[]; readonly fault?: string } {
  const names: string[] = [];
  let fault: string | undefined;
  each(value, (text) => {
    for (const [found, path] of text.matchAll(reference)) {
      if (found.startsWith('$$')) continue;
      if (wellFormed.test(path ?? '')) names.push((path as string).split('.')[0] as string);
      else fault ??= `$(${path}) is not a reference: expected a name, or a name and parts of it as in $(said.cursor)`;
    }
  });
  return { names, ...(fault === undefined ? {} : { fault }) };
}

/**
 * Resolves references. Text that consists of one reference becomes the value itself, of any type; within longer text, the
 * value is inserted as text.
 *
 * @throws {MissingValue} if a referenced value does not exist
 */
export function filledIn(value: Json, values: Values): Json {
  if (typeof value === 'string') return filledText(value, values);
  if (Array.isArray(value)) return value.map((item: Json) => filledIn(item, values));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).map(([name, member]) => [String(filledText(name, values)), filledIn(member as Json, values)]),
  );
}

/** Writes text so that it is taken as it is, and not for references. */
export function literal(value: Json): Json {
  if (typeof value === 'string') return value.replaceAll('$(', '$$$(');
  if (Array.isArray(value)) return value.map((item: Json) => literal(item));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).map(([name, member]) => [String(literal(name)), literal(member as Json)]),
  );
}

/** A referenced value does not exist. */
export class MissingValue extends Error {}

function filledText(text: string, values: Values): Json {
  const whole = /^\$\(([^()]*)\)$/.exec(text);
  if (whole !== null) return valueAt(whole[1] as string, values);
  return text.replaceAll(reference, (found, path: string) => {
    if (found.startsWith('$$')) return found.slice(1);
    const value = valueAt(path, values);
    return typeof value === 'string' ? value : JSON.stringify(value);
  });
}

function valueAt(path: string, values: Values): Json {
  let value: Json | undefined = values;
  for (const [index, part] of path.split('.').entries()) {
    const within: Json | undefined = value;
    value =
      typeof within === 'object' && within !== null && Object.hasOwn(within, part)
        ? (within as Readonly<Record<string, Json>>)[part]
        : undefined;
    if (value === undefined) {
      const before = path.split('.').slice(0, index).join('.');
      throw new MissingValue(
        before === ''
          ? `there is no value $(${part}) yet`
          : `$(${before}) has no ${JSON.stringify(part)}; it is ${JSON.stringify(within).slice(0, 200)}`,
      );
    }
  }
  return value;
}

function each(value: Json, look: (text: string) => void): void {
  if (typeof value === 'string') look(value);
  else if (Array.isArray(value)) for (const item of value) each(item as Json, look);
  else if (typeof value === 'object' && value !== null)
    for (const [name, member] of Object.entries(value)) {
      look(name);
      each(member as Json, look);
    }
}
