/** The page that the client runs in; in Node.js there is none, and nothing is there. */
export const page = globalThis as unknown as Partial<Window>;
