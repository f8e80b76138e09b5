import {
  channelNameFault,
  GUEST_PREFIX,
  isDeeperThan,
  type Json,
  messageTypePattern,
  protocolLimits,
  unfitCharacter,
  userIdFault,
} from '@nine-bells/wire';
import {
  ArrayMaxSize,
  IsArray,
  IsNotEmpty,
  IsOptional,
  IsString,
  Matches,
  MaxLength,
  ValidateBy,
  type ValidationOptions,
} from 'class-validator';
import { IsPart } from './body.js';

/** A channel name, with the fault in its own words. */
export function IsChannel(): PropertyDecorator {
  return check(
    'isChannel',
    (value) => (typeof value === 'string' ? channelNameFault(value) : 'a channel name is a string'),
    {
      context: { code: 'bad-name' },
    },
  );
}

/** Any JSON value, not nested too deep; it must be there, and may be null. */
export function IsJson(): PropertyDecorator {
  return check('isJson', (value) => {
    if (value === undefined) return 'it is missing';
    return isDeeperThan(value, protocolLimits.dataDepth)
      ? `at most ${protocolLimits.dataDepth} levels of nesting are allowed`
      : undefined;
  });
}

/** Text of at least one character, without control characters and halves of surrogate pairs. */
export function IsWords(maxChars: number): PropertyDecorator {
  const fit = check('isFit', (value) =>
    typeof value === 'string' && unfitCharacter.test(value)
      ? 'control characters and halves of surrogate pairs are not allowed'
      : undefined,
  );
  return (target, name) => {
    for (const each of [IsString(), IsNotEmpty(), MaxLength(maxChars), fit]) each(target, name as string);
  };
}

/** A list of texts of at least one character. */
export function IsListOfWords(most: number, maxChars: number): PropertyDecorator {
  return check('isListOfWords', (value) => {
    const fits =
      Array.isArray(value) &&
      value.length <= most &&
      value.every(
        (each) => typeof each === 'string' && each !== '' && each.length <= maxChars && !unfitCharacter.test(each),
      );
    return fits ? undefined : `a list of up to ${most} texts of 1 to ${maxChars} characters is expected`;
  });
}

/** A list of user ids that have an inbox. One loop: validators for each element would take 20 ms for 10,000. */
export function IsUsers(max: number): PropertyDecorator {
  const faultOf = (value: unknown): string | undefined => {
    if (!Array.isArray(value) || value.length > max) return `a list of up to ${max} user ids is expected`;
    const index = value.findIndex((each) => userFault(each) !== undefined);
    return index === -1 ? undefined : `element ${index}: ${userFault(value[index])}`;
  };
  return check('isUsers', faultOf, undefined, [max]);
}

function userFault(user: unknown): string | undefined {
  if (typeof user !== 'string') return 'a user id is expected';
  return user.startsWith(GUEST_PREFIX) ? 'guests have no inbox' : userIdFault(user);
}

/** A length of time in milliseconds. */
export function IsMs(least: number, most: number): PropertyDecorator {
  return check(
    'isMs',
    (value) =>
      Number.isSafeInteger(value) && (value as number) >= least && (value as number) <= most
        ? undefined
        : `a whole number of milliseconds from ${least} to ${most} is expected, such as 600000 for ten minutes`,
    undefined,
    [least, most],
  );
}

function check(
  name: string,
  faultOf: (value: unknown) => string | undefined,
  options?: ValidationOptions,
  /** Values for the generated descriptions. */
  constraints: readonly number[] = [],
): PropertyDecorator {
  return ValidateBy(
    {
      name,
      constraints: [...constraints],
      validator: {
        validate: (value) => faultOf(value) === undefined,
        defaultMessage: (args) => `${args?.property}: ${faultOf(args?.value) ?? ''}`,
      },
    },
    options,
  );
}

/** The user that an application names as author. */
export class AuthorDto {
  @IsWords(protocolLimits.userChars)
  user!: string;

  @IsOptional()
  @IsWords(200)
  name?: string;
}

/** An act that an application may do in the name of a user. */
export class OnBehalfDto {
  @IsOptional()
  @IsPart(AuthorDto)
  by?: AuthorDto;
}

/** Mentions of a message. */
export class MentionsDto {
  @IsOptional()
  @IsListOfWords(protocolLimits.mentionedUsers, protocolLimits.userChars)
  users?: string[];

  @IsOptional()
  @IsListOfWords(protocolLimits.mentionedRoles, protocolLimits.userChars)
  roles?: string[];
}

/** One message that an application publishes: an element of, or the whole, body of `POST /v1/messages`. */
export class PublishDto extends OnBehalfDto {
  @IsChannel()
  channel!: string;

  @IsJson()
  data!: Json;

  @IsOptional()
  @IsString()
  @MaxLength(protocolLimits.typeChars)
  @Matches(messageTypePattern, { message: 'type holds letters, digits and . _ / - and begins with a letter or digit' })
  type?: string;

  @IsOptional()
  @IsWords(protocolLimits.keyChars)
  key?: string;

  @IsOptional()
  @IsArray()
  @ArrayMaxSize(1000)
  @Matches(/^s_[a-z0-9]{1,62}$/, { each: true, message: 'expected ids of sessions, such as s_5jyh3kpeuk43xbfhqpuz' })
  except?: string[];

  @IsOptional()
  @IsWords(64)
  replyTo?: string;

  @IsOptional()
  @IsPart(MentionsDto)
  mentions?: MentionsDto;
}
