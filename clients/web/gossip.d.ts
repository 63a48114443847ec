/** A value as the protocol has it: `docs/protocol.md` says how each type is written. */
export type Json = null | boolean | number | string | Json[] | { [name: string]: Json };

/** A row of a result: its visible columns by name. */
export type Row = Record<string, any>;

/** A column of a result. */
export interface Column {
  name: string;
  type: string;
  /** Whether it is part of the rows' key. */
  key: boolean;
}

/** What one transaction did to a row of the result. */
export interface Change<R extends Row = Row> {
  op: "add" | "replace" | "remove";
  /** The values of the key columns, or one opaque text where they may not be seen. */
  key: Json[] | string;
  /** The row; of a replaced one the columns that were sent. */
  row?: Partial<R>;
  /** Columns that differ. */
  changed?: string[];
  /** Where it stands in an ordered result, from 0. */
  place?: number;
  /** The row as it was, where that was asked for. */
  was?: Partial<R>;
}

/** What came with a state of a result. */
export interface Delta<R extends Row = Row> {
  /** What changed since the state before; empty where all of it is new. */
  changes: Change<R>[];
  /**
   * Why all of it is new: `first`, `renewed` (what came did not fit what was there), or as the instance says it: `gap`,
   * `caught-up`, `rights-changed`, `schema-changed`, `truncated`, `resumed-too-late`.
   */
  why?: string;
  /** When it was committed, RFC 3339. */
  at?: string;
  /** Additions that were left out, because there were too many. */
  skipped?: number;
}

export interface SubscribeOptions {
  /** The query's parameters. */
  params?: Record<string, Json>;
  /** A stored query instead of a text. */
  name?: string;
  /** A query that the application's server has granted, instead of a text. */
  grant?: string;
  /** Milliseconds between two deltas, at least. */
  every_ms?: number;
  /** Most rows in one message. */
  batch?: number;
  /** What is sent of changes. */
  send?: "rows" | "changed" | "keys" | "signal";
  /** `false`: only changes; `rows` stays empty. */
  initial?: boolean;
  /** Whether changes tell rows as they were. */
  was?: boolean;
  /** How many rows are kept of a result that only gains rows, the newest; 1,000 if absent. */
  keep?: number;
  /** Hears why the subscription ended, if it was not closed here. */
  onError?: (error: GossipError) => void;
}

export interface Subscription<R extends Row = Row> {
  /** The rows as the listener was told them last. */
  readonly rows: R[];
  readonly columns: Column[];
  readonly shape: "stream" | "keyed" | "ordered";
  /** Whether it was closed, here or by the instance. */
  readonly ended: boolean;
  /** Resolves with the first result; rejected if there is none. */
  readonly ready: Promise<R[]>;
  /** Ends it. */
  close(): void;
}

export interface State {
  status: "connecting" | "open" | "waiting" | "closed";
  url?: string;
  transport?: "websocket" | "server-sent events";
  /** How long ago the instance last knew that it was current, in milliseconds. */
  behind_ms?: number;
  /** Why the connection was lost, or is closed. */
  error?: GossipError;
  /** How long it waits before the next attempt. */
  retry_ms?: number;
}

export interface ConnectOptions {
  /**
   * A token, or a function that fetches one. It is called for each connection, again before the token ends, and with the error
   * where a token was refused.
   */
  token?: string | ((refused?: GossipError) => string | undefined | Promise<string | undefined>);
  /** Hears each new state. */
  onState?: (state: State) => void;
  /** Another implementation than the global one. */
  WebSocket?: typeof WebSocket;
  /** Another implementation than the global one; used where no WebSocket can be opened. */
  fetch?: typeof fetch;
}

export interface Client {
  onState?: (state: State) => void;
  readonly state: State;
  /** Follows a query; `listener` hears each committed state of its result. `sql` is null where there is a `name` or a `grant`. */
  subscribe<R extends Row = Row>(
    sql: string | null,
    options?: SubscribeOptions,
    listener?: (rows: R[], delta: Delta<R>) => void,
  ): Subscription<R>;
  /** Publishes an event. It is taken once, over however many connections; rejected after `timeout_ms` (30,000 if absent). */
  publish(topic: string, data: Json, options?: { id?: string; timeout_ms?: number }): Promise<{ position: string }>;
  /** Is present at a place until it leaves, on whatever connection. */
  join(place: string, data?: Json): Promise<object>;
  leave(place: string): Promise<object>;
  /** Ends the connection and all subscriptions. */
  close(): void;
}

/** Why something failed. */
export class GossipError extends Error {
  /** A code of the protocol (`-32002` and the like), an HTTP status, or `lost`, `closed`, `timeout`, `mismatch`. */
  code: number | string;
  /** As the instance gave it. */
  data?: any;
  constructor(code: number | string, message: string, data?: any);
}

/** A result, brought up to date by the answer to `subscribe` and by notifications; what `Client` keeps for each subscription. */
export class LiveResult<R extends Row = Row> {
  constructor(options?: { keep?: number; initial?: boolean });
  readonly rows: R[];
  columns: Column[];
  shape: "stream" | "keyed" | "ordered";
  cursor?: string;
  /** Whether all parts of the result, and of the transaction that changed it last, have come. */
  complete: boolean;
  /** Whether all parts of a result have come once, so that its cursor counts. */
  whole: boolean;
  answer(answer: object): void;
  /** Takes `rows`, `delta` or `snapshot`; throws `mismatch` where something was lost or doubled. */
  take(method: string, params: object): void;
}

/** Connects to an instance (`wss://example.org`), or to one of several. */
export function connect(url: string | string[], options?: ConnectOptions): Client;
