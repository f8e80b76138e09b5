// Written by `ninebells types`: what passes through the channels of a service, from its configuration. Do not edit.

import type { Json } from '@nine-bells/client';

/** What passes through the channels of Gannet Sound Regatta, by the patterns of their names. */
export interface Regatta {
  /** Official notices of the race committee */
  'regatta/notices': {
    messages: { notice: Talk; message: Talk };
    clients: never;
    applications: 'notice' | 'message';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
  /** The desk where the results of a race are edited */
  'desk/results/:race': {
    messages: { message: Talk };
    clients: 'message';
    applications: 'message';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
  /** Berths that the harbour office assigns */
  'quay/berths': {
    messages: { berth: Berth };
    clients: never;
    applications: 'berth';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
  /** Start, recall and course signals */
  'race/:race/signals': {
    messages: { signal: Signal; finish: Finish; 'penalty-turn': PenaltyTurn };
    clients: never;
    applications: 'signal' | 'finish' | 'penalty-turn';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
  /** Spectators' chat of a race */
  'race/:race/chat': {
    messages: { message: Talk };
    clients: 'message';
    applications: 'message';
    hails: { typing: boolean; cheer: RaceRaceChatHailCheer };
    board: never;
    status: Json;
  };
  /** Where the boats of a race are */
  'race/:race/positions': {
    messages: { [type: string]: Json };
    clients: never;
    applications: string;
    hails: Record<never, never>;
    board: Position;
    status: Json;
  };
  /** A boat's own talk, for its crew and the coaches */
  'crew/:boat': {
    messages: { message: Talk };
    clients: 'message';
    applications: 'message';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
  /** A hearing, for its parties and the jury */
  'protest/:case': {
    messages: { message: Talk; joined: null; left: null };
    clients: 'message';
    applications: 'message';
    hails: { typing: boolean };
    board: never;
    status: Json;
  };
  /** What two or more say to each other alone */
  'direct/:users': {
    messages: { message: Talk };
    clients: 'message';
    applications: 'message';
    hails: { typing: boolean };
    board: never;
    status: Json;
  };
  /** Wind readings from the buoys */
  'weather/:station': {
    messages: { reading: Reading };
    clients: never;
    applications: 'reading';
    hails: Record<never, never>;
    board: never;
    status: Json;
  };
}

export type Text = string;
export type Boat = 'petrel' | 'turnstone' | 'dunlin' | 'wigeon' | 'sandpiper' | 'knot' | 'curlew' | 'whimbrel';

export interface Talk {
  text: Text;
  [k: string]: unknown;
}
export interface Berth {
  boat: Boat;
  berth: string;
}
export interface Signal {
  /**
   * What the committee signals
   */
  signal:
    'warning' | 'preparatory' | 'one-minute' | 'start' | 'individual-recall' | 'course-change' | 'shortened-course';
  text: Text;
  [k: string]: unknown;
}
export interface Finish {
  boat: Boat;
  at: string;
  text: Text;
}
export interface PenaltyTurn {
  number: number;
  boat: Boat;
  text: Text;
}
export interface RaceRaceChatHailCheer {
  [k: string]: unknown;
}
export interface Position {
  x: number;
  y: number;
  /**
   * Degrees from north
   */
  heading?: number;
  /**
   * Knots
   */
  speed?: number;
  /**
   * What it sails to
   */
  to?: string;
  /**
   * Counts its reports: what is missing between two of them was merged away
   */
  n?: number;
}
export interface Reading {
  /**
   * Wind speed
   */
  knots: number;
  /**
   * Where the wind comes from
   */
  from: string;
}
