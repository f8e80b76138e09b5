import type { Json, Message } from '@nine-bells/wire';
import type { Draft } from '@nine-bells/wire/http';

/** What passes through a channel, as `ninebells types` writes it. */
export interface ChannelContract {
  /** The data of messages, by their type. */
  readonly messages: object;
  /** The types that clients, and that applications, may publish. */
  readonly clients: string;
  readonly applications: string;
  /** The data of hails, by their type. */
  readonly hails: object;
  /** The value of an entry of the board. */
  readonly board: unknown;
  /** What members say of themselves. */
  readonly status: unknown;
}

/** A channel of which nothing is known. */
export interface AnyChannel {
  readonly messages: { readonly [type: string]: Json };
  readonly clients: string;
  readonly applications: string;
  readonly hails: { readonly [type: string]: Json };
  readonly board: Json;
  readonly status: Json;
}

/** What passes through a service's channels, by the patterns of its channel rules. */
export type ChannelContracts = object;

/** A service of which nothing is known. */
export interface AnyChannels {
  readonly [pattern: string]: AnyChannel;
}

/** Whether a segment of a pattern stands for one of a name. */
type Fits<Segment extends string, Part extends string> = Segment extends `:${string}`
  ? true
  : Part extends Segment
    ? true
    : false;

/** Whether a pattern matches a name, segment by segment. */
type Matches<Pattern extends string, Name extends string> = Pattern extends `${infer Segment}/${infer MoreSegments}`
  ? Name extends `${infer Part}/${infer MoreParts}`
    ? Fits<Segment, Part> extends true
      ? Matches<MoreSegments, MoreParts>
      : false
    : false
  : Name extends `${string}/${string}`
    ? false
    : Fits<Pattern, Name>;

/** Whether a pattern holds where both match: the first segment where one has fixed text and the other a parameter decides. */
type Beats<One extends string, Other extends string> = [One, Other] extends [
  `${infer OneSegment}/${infer OneMore}`,
  `${infer OtherSegment}/${infer OtherMore}`,
]
  ? OneSegment extends `:${string}`
    ? OtherSegment extends `:${string}`
      ? Beats<OneMore, OtherMore>
      : false
    : OtherSegment extends `:${string}`
      ? true
      : Beats<OneMore, OtherMore>
  : One extends `:${string}`
    ? false
    : Other extends `:${string}`
      ? true
      : false;

/** The patterns that match a name. */
type Matching<C extends ChannelContracts, Name extends string> = {
  [P in keyof C & string]: Matches<P, Name> extends true ? P : never;
}[keyof C & string];

/** Of several patterns, the one that no other beats. */
type Best<P extends string, All extends string = P> = P extends string
  ? true extends { [Q in All]: Q extends P ? false : Beats<Q, P> }[All]
    ? never
    : P
  : never;

/** The contract of a channel by its name: the most specific pattern that matches it. Of a name that is not known yet: any. */
export type ChannelOf<C extends ChannelContracts, Name extends string> = string extends keyof C
  ? AnyChannel
  : string extends Name
    ? AnyChannel
    : C[Best<Matching<C, Name>> & keyof C] extends infer K extends ChannelContract
      ? K
      : never;

/** A name that a pattern matches; no other name has this type. */
export type Known<C extends ChannelContracts, Name extends string> = [ChannelOf<C, Name>] extends [never]
  ? never
  : unknown;

/** The names that a pattern matches, as far as a template literal type can say it. */
export type NamesOf<Pattern extends string> = Pattern extends `${infer Segment}/${infer More}`
  ? `${Segment extends `:${string}` ? string : Segment}/${NamesOf<More>}`
  : Pattern extends `:${string}`
    ? string
    : Pattern;

/** The data of messages of a type. */
export type DataOf<K extends ChannelContract, Type> = K['messages'][Type & keyof K['messages']];

/** The type that a message has which does not say another, where there is such a type. */
export type DefaultType<Types extends string> = 'message' extends Types ? 'message' : never;

export type HailType<K extends ChannelContract> = keyof K['hails'] & string;

/** A message whose type says what its data is. */
export type MessageOf<K extends ChannelContract> = string extends keyof K['messages']
  ? Message
  : {
      [Type in keyof K['messages'] & string]: Omit<Message, 'type' | 'data'> & {
        readonly type: Type;
        readonly data: K['messages'][Type];
      };
    }[keyof K['messages'] & string];

/** Any message that a service takes of an application, by its contracts. */
export type AnyDraft<C extends ChannelContracts> = string extends keyof C
  ? Draft
  : { [Pattern in keyof C & string]: DraftOf<NamesOf<Pattern>, C[Pattern]> }[keyof C & string];

type DraftOf<Channel extends string, K> = K extends ChannelContract
  ? {
      [Type in K['applications']]: Type extends 'message'
        ? Draft<Channel, DataOf<K, Type>, Type>
        : Draft<Channel, DataOf<K, Type>, Type> & { readonly type: Type };
    }[K['applications']]
  : never;
