export type * from './answers.js';
export type * from './httpInterface.js';
export type * from './lineFrames.js';
export type * from './sentRequests.js';
export type * from './webhooks.js';
