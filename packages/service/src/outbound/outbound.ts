/** A request from the service to the application, or to the receiver of a hook. */
export interface OutboundRequest {
  readonly kind: 'ask' | 'review' | 'call' | 'hook';
  /** Name of the call or of the hook. */
  readonly name?: string;
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  /** JSON text. */
  readonly body: string;
  readonly timeoutMs: number;
}

export interface OutboundAnswer {
  readonly status: number;
  readonly text: string;
}

/** Answers outbound requests within the process, so that none reaches the network. A rejection counts as a failed connection. */
export type Outbound = (request: OutboundRequest) => Promise<OutboundAnswer>;
