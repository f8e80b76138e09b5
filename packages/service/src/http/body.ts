import { defined, type ProblemCode, ProblemError, problem } from '@nine-bells/wire';
import { type ValidationError, validateSync } from 'class-validator';
import { BodyError, type BodyFault } from '../bodyError.js';

/** A class whose members class-validator checks, and which says what it takes. */
export interface Dto<T extends object> {
  new (): T;
  /** The members it takes; those that are objects themselves with their own class. */
  readonly members: Readonly<Record<string, Dto<object> | true>>;
}

/**
 * Reads a request's body, or one element of it, into an instance of `dto`.
 *
 * Only the members that the class names are taken over, one by one: what a stranger sends decides neither the object's
 * prototype nor what else it has. A member that is not known is a fault, since it is most often a known one mistyped.
 *
 * @throws {BodyError} with all faults
 */
export function readBody<T extends object>(dto: Dto<T>, body: unknown, where = ''): T {
  const { value, faults } = assemble(dto, body, where);
  if (value !== undefined) faults.push(...faultsOf(validateSync(value), where));
  if (faults.length > 0) throw errorOf(faults);
  return value as T;
}

/** The members that were given: `null` stands for one that was not, as class-validator has it. */
export function present<T extends object>(value: T): { [K in keyof T]?: NonNullable<T[K]> } {
  return Object.fromEntries(Object.entries(value).filter(([, each]) => each != null)) as never;
}

/** Most faults in an answer, and most characters of each. */
const maxFaults = 20;
const maxChars = 300;

interface CodedFault extends BodyFault {
  readonly code: ProblemCode;
}

function assemble<T extends object>(dto: Dto<T>, body: unknown, where: string): { value?: T; faults: CodedFault[] } {
  if (typeof body !== 'object' || body === null || Array.isArray(body))
    return { faults: [{ where, detail: 'a JSON object is expected', code: 'bad-value' }] };
  const value = new dto() as Record<string, unknown>;
  const faults: CodedFault[] = [];
  for (const [name, given] of Object.entries(body)) {
    if (faults.length >= maxFaults) break;
    const place = `${where}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`;
    const member = Object.hasOwn(dto.members, name) ? dto.members[name] : undefined;
    if (member === undefined) {
      const detail = `there is no such member; there are ${Object.keys(dto.members).join(', ')}`;
      faults.push({ where: place, detail, code: 'bad-value' });
    } else if (member === true) value[name] = given;
    else {
      const inner = assemble(member, given, place);
      faults.push(...inner.faults);
      value[name] = inner.value;
    }
  }
  return { value: value as T, faults };
}

/** Flattens what class-validator found. A constraint may carry a code of the catalogue as its context. */
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

/** What a client has sent is repeated to it only in part. */
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

/** The same error, said of element `index` of a list. */
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
