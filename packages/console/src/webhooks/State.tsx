const kinds: Readonly<Record<string, string>> = {
  done: 'good',
  delivered: 'good',
  active: 'good',
  failed: 'bad',
  dead: 'bad',
  paused: 'bad',
  full: 'bad',
  failing: 'bad',
};

/** The state of an event, a delivery or a hook, in a colour of its kind. */
export function State({ of }: { readonly of: string }) {
  return <span className={`state ${kinds[of] ?? ''}`}>{of}</span>;
}
