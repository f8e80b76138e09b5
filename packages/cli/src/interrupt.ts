const signals = ['SIGINT', 'SIGTERM'] as const;

/**
 * Calls `act` each time that the process is asked to end.
 *
 * @returns removes the handler, so that commands may run one after another in a process
 */
export function onInterrupt(act: () => void): () => void {
  for (const signal of signals) process.on(signal, act);
  return () => {
    for (const signal of signals) process.off(signal, act);
  };
}
