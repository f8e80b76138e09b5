import { defined, type ProblemCode, ProblemError, problem } from '@nine-bells/wire';
import { Allow, getMetadataStorage, ValidateNested, type ValidationError, validateSync } from 'class-validator';
import { BodyError, type BodyFault } from '../bodyError.js';

/** A class with the members of a body. Each member has a decorator of class-validator: undecorated ones are unknown. */
export type Dto<T extends object> = new () => T;

/** Classes of members that are objects, by the class they belong to and the member's name. */
const parts = new WeakMap<object, Map<string, Dto<object>>>();

/** Declares a member that is an object, checked by its own class. */
export function IsPart(dto: Dto<object>): PropertyDecorator {
  return (target, name) => {
    const own = parts.get(target.constructor) ?? new Map<string, Dto<object>>();
    parts.set(target.constructor, own.set(String(name), dto));
    ValidateNested()(target, name);
  };
}

/** Declares a member with any value; the route checks it. */
export const IsAnything = Allow;

type Members = ReadonlyMap<string, Dto<object> | undefined>;

const known = new WeakMap<Dto<object>, Members>();

/** Returns the members of a body, its own before inherited ones, with the classes of those that are objects. */
export function membersOf(dto: Dto<object>): Members {
  const members = known.get(dto) ?? readMembers(dto);
  known.set(dto, members);
  return members;
}

function readMembers(dto: Dto<object>): Members {
  const classes: object[] = [];
  for (let each: object | null = dto; each !== null; each = Object.getPrototypeOf(each)) classes.push(each);
  const partOf = (name: string): Dto<object> | undefined =>
    classes.map((each) => parts.get(each)?.get(name)).find((part) => part !== undefined);
  const metadata = getMetadataStorage().getTargetValidationMetadatas(dto, '', true, false);
  return new Map(metadata.map(({ propertyName }) => [propertyName, partOf(propertyName)]));
}

/**
 * Reads a request's body, or one element of it, into an instance of `dto`.
 *
 * Only members of the class are copied, so a body cannot set the object's prototype or other members. Unknown members are
 * faults: most of them are misspelled.
 *
 * @throws {BodyError} with all faults
 */
export function readBody<T extends object>(dto: Dto<T>, body: unknown, where = ''): T {
  const { value, faults } = assemble(dto, body, where);
  if (value !== undefined) faults.push(...faultsOf(validateSync(value), where));
  if (faults.length > 0) throw errorOf(faults);
  return value as T;
}

/** Returns the members that were given. `null` counts as absent, as class-validator has it. */
export function present<T extends object>(value: T): { [K in keyof T]?: NonNullable<T[K]> } {
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each != null)) as never;
}

/** Maximum number of faults in an answer, and characters of each. */
const maxFaults = 20;
const maxChars = 300;

interface CodedFault extends BodyFault {
  readonly code: ProblemCode;
}

function assemble<T extends object>(dto: Dto<T>, body: unknown, where: string): { value?: T; faults: CodedFault[] } {
  if (typeof body !== 'object' || body === null || Array.isArray(body))
    return { faults: [{ where, detail: 'a JSON object is expected', code: 'bad-value' }] };
  const value = new dto() as Record<string, unknown>;
  const members = membersOf(dto);
  const faults: CodedFault[] = [];
  for (const [name, given] of Object.entries(body)) {
    if (faults.length >= maxFaults) break;
    const place = `${where}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`;
    const part = members.get(name);
    if (!members.has(name)) {
      const detail = `there is no such member; there are ${[...members.keys()].join(', ')}`;
      faults.push({ where: place, detail, code: 'bad-value' });
    } else if (part === undefined) value[name] = given;
    else {
      const inner = assemble(part, given, place);
      faults.push(...inner.faults);
      value[name] = inner.value;
    }
  }
  return { value: value as T, faults };
}

/** Flattens the faults of class-validator. A constraint may have a problem code as its context. */
function faultsOf(errors: readonly ValidationError[], where: string): CodedFault[] {
  return errors.flatMap((error) => {
    const place = `${where}/${error.property}`;
    const own = Object.entries(error.constraints ?? {}).map(([name, detail]) => ({
      where: place,
      detail,
      code: (error.contexts?.[name]?.code as ProblemCode | undefined) ?? ('bad-value' as const),
    }));
    return [...own.slice(0, 1), ...faultsOf(error.children ?? [], place)];
  });
}

/** Shortens a text of the client, which the answer repeats. */
function shortened(text: string): string {
  return text.length <= maxChars ? text : `${text.slice(0, maxChars)}...`;
}

function errorOf(faults: readonly CodedFault[]): BodyError {
  const first = faults[0] as CodedFault;
  return new BodyError(
    problem(first.code, shortened(first.detail), { where: shortened(first.where) }),
    faults.slice(0, maxFaults).map(({ where, detail }) => ({ where: shortened(where), detail: shortened(detail) })),
  );
}

/** Returns the error with `where` inside element `index` of a list. */
export function atElement(error: unknown, index: number): unknown {
  if (error instanceof BodyError || !(error instanceof ProblemError)) return error;
  const { code, detail, where, retryAfterMs, faults } = error.problem;
  return new ProblemError({
    ...problem(code, detail, {
      where: `/${index}${where ?? ''}`,
      ...defined({ retryAfterMs }),
    }),
    ...(faults && { faults: faults.map((each) => ({ ...each, where: `/${index}${each.where}` })) }),
  });
}
