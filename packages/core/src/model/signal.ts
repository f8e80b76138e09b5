import type { BoardWord } from './board.js';
import type { Hail } from './hail.js';
import type { MarkWord } from './mark.js';
import type { TableWord } from './memberTable.js';
import type { ReactionWord } from './reaction.js';

/** What is carried to everyone who wants a channel and has no number there. */
export type Signal = BoardWord | Hail | MarkWord | ReactionWord | TableWord;
