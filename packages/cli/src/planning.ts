/** What a service is to bear. */
export interface Load {
  readonly connections: number;
  /** Messages published in a second, over all channels. */
  readonly messagesPerS: number;
  /** Sessions that get a message, on average. */
  readonly members: number;
  /** Bytes of a message as it goes over the line, frame and all. */
  readonly messageBytes: number;
  /** Instances to plan with; absent: as many as it takes. */
  readonly instances?: number | undefined;
}

/** What an instance is taken to bear. */
export interface Capacity {
  readonly connections: number;
  /** Deliveries in a second, of which it is planned to do half. */
  readonly deliveriesPerS: number;
  /** Texts of the relay that it takes in, in a second; half of that too. */
  readonly textsPerS: number;
}

/**
 * As measured on two cores of 2.5 GHz (docs/performance.md): deliveries one at a time, since bursts are a gift, and the
 * bound on connections that an instance has by itself.
 */
export const measured: Capacity = { connections: 50_000, deliveriesPerS: 79_000, textsPerS: 40_000 };

/** Resident memory of a connection that has entered a few channels, and of an instance without any, in bytes. */
const connectionBytes = 10_000;
const instanceBytes = 120_000_000;
/** What one Redis process takes, in appended messages a second; half of it is planned with. */
const redisAppendsPerS = 40_000;

/** What comes of a load. Rates are a second's. */
export interface Plan {
  readonly instances: number;
  /** What asks for so many instances. */
  readonly because: 'connections' | 'deliveries' | 'relayed messages' | 'one is enough' | 'wished';
  readonly deliveriesPerS: number;
  readonly bytesOutPerS: number;
  readonly perInstance: {
    readonly connections: number;
    readonly deliveriesPerS: number;
    readonly bytesOutPerS: number;
    readonly textsInPerS: number;
    readonly memoryBytes: number;
    /** Parts of what it is taken to bear. */
    readonly ofConnections: number;
    readonly ofDeliveries: number;
    readonly ofTexts: number;
  };
  readonly relay: {
    /** On how many instances a message has a recipient, on average. */
    readonly instancesPerMessage: number;
    readonly textsOutPerS: number;
    readonly bytesOutPerS: number;
    /** Redis processes, at half of what one takes. */
    readonly processes: number;
  };
}

/**
 * The arithmetic of fan-out: a message in is as many deliveries out as the channel has members, and a text to each instance
 * where one of them is.
 */
export function planOf(load: Load, capacity: Capacity = measured): Plan {
  const deliveriesPerS = load.messagesPerS * load.members;
  const byConnections = load.connections / capacity.connections;
  const byDeliveries = deliveriesPerS / (capacity.deliveriesPerS / 2);
  // Of several instances one may be missing: the others have to hold its connections.
  const holding = byConnections <= 1 ? 1 : Math.ceil(byConnections) + 1;
  const least = Math.max(holding, Math.ceil(byDeliveries));
  const most = load.instances ?? enough(load, capacity, least);
  const spread = reached(load.members, most);
  const textsInPerS = most === 1 ? 0 : (load.messagesPerS * spread) / most;
  const ofTexts = textsInPerS / (capacity.textsPerS / 2);
  const share = (whole: number): number => whole / most;
  return {
    instances: most,
    because: becauseOf(load, most, least, byConnections, byDeliveries),
    deliveriesPerS,
    bytesOutPerS: deliveriesPerS * load.messageBytes,
    perInstance: {
      connections: share(load.connections),
      deliveriesPerS: share(deliveriesPerS),
      bytesOutPerS: share(deliveriesPerS * load.messageBytes),
      textsInPerS,
      memoryBytes: instanceBytes + share(load.connections) * connectionBytes,
      ofConnections: byConnections / most,
      ofDeliveries: byDeliveries / most,
      ofTexts,
    },
    relay: {
      instancesPerMessage: spread,
      textsOutPerS: most === 1 ? 0 : load.messagesPerS * spread,
      bytesOutPerS: most === 1 ? 0 : load.messagesPerS * spread * load.messageBytes,
      processes: most === 1 ? 0 : Math.max(1, Math.ceil(load.messagesPerS / (redisAppendsPerS / 2))),
    },
  };
}

/** More instances, until none takes in more of the relay than it can. */
function enough(load: Load, capacity: Capacity, least: number): number {
  const fits = (instances: number): boolean =>
    instances === 1 || (load.messagesPerS * reached(load.members, instances)) / instances <= capacity.textsPerS / 2;
  let instances = least;
  // What every instance must take in does not get less by having more of them.
  while (!fits(instances) && instances < least * 100 && instances < load.members * 2) instances += 1;
  return instances;
}

/** How many of some instances have at least one of so many members, if connections are spread evenly. */
function reached(members: number, instances: number): number {
  return instances * (1 - (1 - 1 / instances) ** members);
}

function becauseOf(
  load: Load,
  instances: number,
  least: number,
  byConnections: number,
  byDeliveries: number,
): Plan['because'] {
  if (load.instances !== undefined) return 'wished';
  if (instances === 1) return 'one is enough';
  if (instances > least) return 'relayed messages';
  return byConnections > byDeliveries ? 'connections' : 'deliveries';
}
