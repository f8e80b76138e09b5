import type { Json } from '@nine-bells/wire';

/** A word about something that went wrong inside, for the service's log. */
export type Report = (error: unknown, about: Readonly<Record<string, Json | undefined>>) => void;
