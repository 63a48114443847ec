/**
 * Live queries for web pages: one module without dependencies, for browsers and Node.
 *
 *   const client = connect("wss://example.org/v1/socket", { token: () => fetchToken() });
 *   const calls = client.subscribe("SELECT id, status FROM calls", {}, (rows, delta) => draw(rows));
 *
 * The client keeps each result, makes connections anew with growing pauses, goes on from where it was, and renews its token.
 * docs/protocol.md in the project says what goes over the wire; gossip.d.ts has the types.
 */

/** Silence after which a connection counts as lost: an instance says every second or two how current it is. */
const SILENCE_MS = 10_000;
/** How long a connection may take to be made. */
const CONNECT_MS = 10_000;
/** The longest pause before the second attempt, and the longest of all. */
const FIRST_PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 5_000;
/** How long a refused subscription waits that may be taken later. */
const REFUSED_PAUSE_MS = 1_000;
/** Calls and publications that may wait for their answer. */
const MOST_WAITING = 1_000;
/** How long a publication waits for its answer, over however many connections. */
const PUBLISH_MS = 30_000;
/** Rows that are kept of a result that only gains rows. */
const KEEP = 1_000;
/** Attempts in a row, at each address, after which server-sent events are tried instead. */
const ATTEMPTS = 2;

const NOT_AUTHENTICATED = -32001;
const LIMIT = -32005;
const UNAVAILABLE = -32006;

/** Why something failed: a `code` of the protocol, or `lost`, `closed`, `timeout`, `mismatch`, and `data` as the instance gave it. */
export class GossipError extends Error {
  constructor(code, message, data) {
    super(message);
    this.name = "GossipError";
    this.code = code;
    this.data = data;
  }
}

/** Tells a listener. What goes wrong there is shown as such, and neither stops the client nor others from hearing. */
function hear(listener, ...told) {
  try {
    listener?.(...told);
  } catch (error) {
    setTimeout(() => {
      throw error;
    });
  }
}

const byKey = (key) => JSON.stringify(key);

/** One live query's result, brought up to date by what an instance says: the answer to `subscribe`, then notifications. */
export class LiveResult {
  #rows = new Map();
  #order = [];
  #stream = [];
  #keep;
  #changesOnly;

  /**
   * @param keep how many rows of a result are kept that only gains rows; the newest
   * @param initial false if only changes were asked for: no rows are kept
   */
  constructor({ keep = KEEP, initial = true } = {}) {
    this.#keep = keep;
    this.#changesOnly = !initial;
    this.columns = [];
    this.shape = "keyed";
    this.cursor = undefined;
    /** Whether all parts of the result, and of the transaction that changed it last, have come. */
    this.complete = false;
    /** Whether all parts of a result have come once, so that its cursor counts. */
    this.whole = false;
  }

  /** The rows: in the result's order if it has one, else in the order in which they came. */
  get rows() {
    if (this.shape === "stream") return [...this.#stream];
    if (this.shape === "keyed") return [...this.#rows.values()];
    return this.#order.map((key) => this.#rows.get(key));
  }

  /** Begins with the answer to `subscribe`, or goes on with it. */
  answer({ resumed, columns, shape, rows, cursor, more }) {
    this.columns = columns;
    this.complete = !more;
    if (resumed) return;
    this.shape = shape ?? "keyed";
    this.#replace(rows);
    this.cursor = cursor;
    this.whole = !more;
  }

  #replace(rows = []) {
    this.#rows.clear();
    this.#order = [];
    this.#stream = [];
    this.#take(rows);
  }

  #take(rows) {
    for (const { key, row } of rows) this.#put(key, row);
  }

  #put(key, row = {}) {
    if (this.shape === "stream") {
      this.#stream.push(row);
      if (this.#stream.length > this.#keep) this.#stream.shift();
      return;
    }
    const name = byKey(key);
    if (this.shape === "ordered" && !this.#rows.has(name)) this.#order.push(name);
    this.#rows.set(name, row);
  }

  /**
   * Takes `rows`, `delta` or `snapshot`.
   * @throws GossipError `mismatch`: it does not fit what is known; something was lost or doubled on the way
   */
  take(method, told) {
    if (method === "rows") {
      this.#take(told.rows);
    } else if (method === "snapshot") {
      this.columns = told.columns ?? this.columns;
      this.#replace(told.rows);
      this.whole = false;
    } else {
      if (told.cursor === this.cursor) throw new GossipError("mismatch", "the same delta twice");
      const changes = this.#changesOnly ? [] : (told.changes ?? []);
      for (const change of changes) this.#change(change);
      if (this.shape === "ordered") this.#reorder(changes);
    }
    this.cursor = told.cursor ?? this.cursor;
    this.complete = !told.more;
    this.whole ||= this.complete;
  }

  #change({ op, key, row = {} }) {
    if (op === "add") return this.#put(key, row);
    const name = byKey(key);
    const known = this.#rows.get(name);
    if (!known) throw new GossipError("mismatch", `${op} of ${name}, which is not there`);
    if (op === "remove") this.#rows.delete(name);
    else this.#rows.set(name, { ...known, ...row });
  }

  /** First all that left or have a place are taken out, then these are put in, the foremost first. */
  #reorder(changes) {
    const out = new Set();
    const placed = [];
    for (const { op, key, place } of changes) {
      if (op !== "remove" && place === undefined) continue;
      out.add(byKey(key));
      if (op !== "remove") placed.push([place, byKey(key)]);
    }
    if (out.size === 0) return;
    this.#order = this.#order.filter((key) => !out.has(key));
    for (const [place, key] of placed.sort(([a], [b]) => a - b)) {
      if (place > this.#order.length) throw new GossipError("mismatch", `place ${place} of ${key}, behind the end`);
      this.#order.splice(place, 0, key);
    }
  }
}

/** One live query of a client. */
class Subscription {
  /** The number under which the instance knows it on the present connection. */
  number = undefined;
  #client;
  #asked;
  #listener;
  #kept;
  #result;
  #news = { changes: [] };
  #shown = [];
  #isShown = false;
  #settle = {};
  #ended = false;

  constructor(client, asked, { onError, keep }, listener) {
    this.#client = client;
    this.#asked = asked;
    this.#listener = listener;
    this.#kept = { keep, initial: asked.initial };
    this.#result = new LiveResult(this.#kept);
    this.onError = onError;
    /** Resolves with the rows when the result is there; rejected if the query is refused. */
    this.ready = new Promise((resolve, reject) => (this.#settle = { resolve, reject }));
    this.ready.catch(() => {});
  }

  /** The rows as the listener was told them last. */
  get rows() {
    return this.#shown;
  }

  /** The result's columns: `{name, type, key}` each. */
  get columns() {
    return this.#result.columns;
  }

  /** `stream`, `keyed` or `ordered`. */
  get shape() {
    return this.#result.shape;
  }

  /** Whether it has ended: closed here, or by the instance. */
  get ended() {
    return this.#ended;
  }

  /** What to ask for: from where it was, if that is known. */
  get params() {
    return this.#result.whole ? { ...this.#asked, cursor: this.#result.cursor } : this.#asked;
  }

  /** Takes the answer to `subscribe`. */
  answer(answer) {
    this.number = answer.subscription;
    if (!answer.resumed) this.#news = { changes: [], why: answer.why ?? (this.#isShown ? "renewed" : "first") };
    this.#result.answer(answer);
    if (!answer.resumed && !answer.more) this.#tell();
  }

  /** Takes a notification. What does not fit is asked for anew. */
  take(method, told) {
    try {
      this.#result.take(method, told);
    } catch (error) {
      this.#result = new LiveResult(this.#kept);
      throw error;
    }
    if (method === "snapshot") this.#news = { changes: [], why: told.why };
    if (method === "delta") {
      this.#news.at = told.at;
      if (told.skipped) this.#news.skipped = (this.#news.skipped ?? 0) + told.skipped;
      // What changed matters only beside a result that was shown.
      if (!this.#news.why) this.#news.changes.push(...(told.changes ?? []));
    }
    if (this.#result.complete) this.#tell();
  }

  #tell() {
    const news = this.#news;
    this.#news = { changes: [] };
    this.#shown = this.#result.rows;
    this.#isShown = true;
    this.#settle.resolve(this.#shown);
    hear(this.#listener, this.#shown, news);
  }

  /** It ends, with an error if that is not what was wanted. */
  end(error) {
    if (this.#ended) return;
    this.#ended = true;
    this.#settle.reject(error ?? new GossipError("closed", "the subscription was closed"));
    if (error) hear(this.onError, error);
  }

  /** Ends it. */
  close() {
    this.end();
    this.#client.forget(this);
  }
}

const pause = (attempt) => Math.random() * Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** Math.min(attempt, 10));

/** The addresses of an instance, from whatever form of one is given. */
function addresses(url) {
  const base = typeof location === "undefined" ? undefined : location.href;
  const parsed = new URL(/^[a-z]+:\/\//i.test(url) || base ? url : `ws://${url}`, base);
  const secure = ["wss:", "https:"].includes(parsed.protocol);
  if (!secure && !["ws:", "http:"].includes(parsed.protocol)) {
    throw new GossipError("closed", `${url}: expected the address of an instance, such as wss://example.org`);
  }
  return {
    socket: `${secure ? "wss" : "ws"}://${parsed.host}/v1/socket`,
    http: `${secure ? "https" : "http"}://${parsed.host}`,
  };
}

/** Of 128 bits: others' ids are not met by chance. */
function randomId() {
  const bytes = new Uint8Array(16);
  if (globalThis.crypto) crypto.getRandomValues(bytes);
  // Older versions of Node keep that elsewhere.
  else bytes.forEach((_, i) => (bytes[i] = Math.random() * 256));
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
}

const refused = ({ code, message, data }) => new GossipError(code, message, data);

/** A connection to one of several instances, made anew whenever it is lost. */
class Client {
  /** Called with each new state. */
  onState = undefined;
  #urls;
  #at = 0;
  #token;
  #WebSocket;
  #fetch;
  #subscriptions = new Set();
  #present = new Map();
  #publications = new Set();
  #state = { status: "connecting" };
  #calls = new Map();
  #nextId = 1;
  #send = undefined;
  /** Whether the instance knows for whom it is asked: nothing else is said before. */
  #isKnown = false;
  #lose = undefined;
  #wake = undefined;
  #attempts = 0;
  #failures = 0;
  #renewal = undefined;
  #closed = false;
  /** What server-sent events are asked for with, while they take the place of a socket. */
  #streams = undefined;

  constructor(urls, { token, onState, WebSocket: Socket = globalThis.WebSocket, fetch: get = globalThis.fetch } = {}) {
    this.#urls = urls.map(addresses);
    if (this.#urls.length === 0) throw new GossipError("closed", "an address is missing");
    this.#token = token;
    this.#WebSocket = Socket;
    this.#fetch = get?.bind(globalThis);
    this.onState = onState;
    this.#run();
  }

  /** `{status, url, transport, behind_ms, error, retry_ms}`; `status` is `connecting`, `open`, `waiting` or `closed`. */
  get state() {
    return this.#state;
  }

  /** Follows a query. `listener(rows, delta)` hears each committed state of its result. */
  subscribe(sql, options = {}, listener = undefined) {
    const { params, name, grant, every_ms, batch, send, initial, was, ...own } = options;
    const asked = { query: sql ?? undefined, name, grant, params, every_ms, batch, send, initial, was };
    const subscription = new Subscription(this, JSON.parse(JSON.stringify(asked)), own, listener);
    if (this.#closed) {
      subscription.end(new GossipError("closed", "the client was closed"));
      return subscription;
    }
    this.#subscriptions.add(subscription);
    this.#begin(subscription);
    return subscription;
  }

  /** Publishes an event; resolves with `{position}`. It is taken once, over however many connections. */
  publish(topic, data, { id = randomId(), timeout_ms = PUBLISH_MS } = {}) {
    if (this.#closed) return Promise.reject(new GossipError("closed", "the client was closed"));
    if (this.#publications.size >= MOST_WAITING) {
      return Promise.reject(new GossipError(LIMIT, `limit reached: ${MOST_WAITING} publications without an answer`));
    }
    return new Promise((resolve, reject) => {
      const publication = { topic, data, id };
      const late = () => publication.done(reject, new GossipError("timeout", `${topic}: no answer in ${timeout_ms} ms`));
      const timer = setTimeout(late, timeout_ms);
      publication.done = (settle, value) => {
        clearTimeout(timer);
        this.#publications.delete(publication);
        settle(value);
      };
      publication.resolve = (answer) => publication.done(resolve, answer);
      publication.reject = (error) => publication.done(reject, error);
      this.#publications.add(publication);
      this.#publish(publication);
    });
  }

  /** Is present at a place until it leaves, on whatever connection. Joining again replaces the data. */
  join(place, data) {
    this.#present.set(place, data);
    return this.#isKnown ? this.#call("join", { place, data }) : this.#withoutSocket("join");
  }

  /** Is present there no longer. */
  leave(place) {
    this.#present.delete(place);
    return this.#isKnown ? this.#call("leave", { place }) : this.#withoutSocket("leave");
  }

  /** Presence needs a socket; until there is one, it is remembered. */
  #withoutSocket(what) {
    if (!this.#streams) return Promise.resolve({});
    return Promise.reject(new GossipError(UNAVAILABLE, `${what} needs a WebSocket, and none can be opened here`));
  }

  /** Ends the connection and all subscriptions. */
  close() {
    this.#end(undefined);
  }

  #end(error) {
    if (this.#closed) return;
    this.#closed = true;
    for (const subscription of this.#subscriptions) {
      subscription.end(error);
      subscription.abort?.abort();
      clearTimeout(subscription.timer);
    }
    this.#subscriptions.clear();
    for (const { reject } of [...this.#publications]) reject(error ?? new GossipError("closed", "the client was closed"));
    this.#lose?.(new GossipError("closed", "the client was closed"));
    this.#wake?.();
    this.#say({ status: "closed", error });
  }

  /** Forgets a subscription that was closed. */
  forget(subscription) {
    this.#subscriptions.delete(subscription);
    subscription.abort?.abort();
    clearTimeout(subscription.timer);
    const { number } = subscription;
    if (number !== undefined && this.#isKnown) this.#call("unsubscribe", { subscription: number }).catch(() => {});
  }

  #say(state) {
    this.#state = state;
    hear(this.onState, state);
  }

  async #run() {
    while (!this.#closed) {
      const url = this.#urls[this.#at++ % this.#urls.length];
      this.#say({ status: "connecting", url: url.socket });
      const streams = this.#failures >= ATTEMPTS * this.#urls.length && this.#fetch;
      let error;
      try {
        await (streams || !this.#WebSocket ? this.#overHttp(url) : this.#overSocket(url));
      } catch (e) {
        error = e instanceof GossipError ? e : new GossipError("lost", String(e?.message ?? e));
      }
      if (this.#closed) return;
      // A token that does not change is refused again.
      if (error.code === NOT_AUTHENTICATED && typeof this.#token !== "function") return this.#end(error);
      // After a restart others wait as long as they like: this instance asked to be left.
      const retry_ms = Math.max(error.data?.retry_after_ms ?? 0, error.restart ? pause(0) : pause(this.#attempts++));
      this.#say({ status: "waiting", url: url.socket, error, retry_ms: Math.round(retry_ms) });
      await this.#rest(retry_ms);
    }
  }

  /** Waits, but not longer than until the network is there again. */
  async #rest(ms) {
    await new Promise((resolve) => {
      const timer = setTimeout(resolve, ms);
      this.#wake = () => {
        clearTimeout(timer);
        resolve();
      };
      globalThis.addEventListener?.("online", this.#wake, { once: true });
    });
    globalThis.removeEventListener?.("online", this.#wake);
    this.#wake = undefined;
  }

  async #freshToken(refusal) {
    if (typeof this.#token !== "function") return this.#token;
    let timer;
    const late = new Promise((_, reject) => {
      timer = setTimeout(() => reject(new GossipError("timeout", `no token in ${CONNECT_MS} ms`)), CONNECT_MS);
    });
    const asked = Promise.resolve(refusal).then(this.#token);
    return Promise.race([asked, late]).finally(() => clearTimeout(timer));
  }

  async #overSocket(url) {
    const socket = new this.#WebSocket(url.socket, "gossip.v1");
    let timer;
    const lost = new Promise((_, reject) => (this.#lose = reject));
    lost.catch(() => {});
    const silence = (ms, what) => {
      clearTimeout(timer);
      timer = setTimeout(() => this.#lose?.(new GossipError("lost", `${url.socket}: ${what} for ${ms} ms`)), ms);
    };
    silence(CONNECT_MS, "no connection");
    const opened = new Promise((resolve) => (socket.onopen = resolve));
    let reason;
    socket.onmessage = ({ data }) => {
      silence(SILENCE_MS, "silent");
      try {
        reason = this.#take(data) ?? reason;
      } catch (error) {
        this.#lose?.(new GossipError("mismatch", `${url.socket}: not understood: ${error.message}`));
      }
    };
    socket.onclose = ({ code, reason: why }) => {
      const error = reason ?? new GossipError("lost", `${url.socket}: the connection ended (${code}${why ? ` ${why}` : ""})`);
      error.restart = code === 1012;
      this.#lose?.(error);
    };
    socket.onerror = () => this.#lose?.(reason ?? new GossipError("lost", `${url.socket}: cannot be reached`));
    try {
      await Promise.race([opened, lost]);
      this.#failures = 0;
      this.#send = (text) => socket.send(text);
      await Promise.race([this.#authenticate(), lost]);
      this.#isKnown = true;
      this.#say({ status: "open", url: url.socket, transport: "websocket" });
      for (const [place, data] of this.#present) this.#call("join", { place, data }).catch(() => {});
      for (const subscription of this.#subscriptions) this.#begin(subscription);
      for (const publication of this.#publications) this.#publish(publication);
      await lost;
    } finally {
      this.#failures += this.#send ? 0 : 1;
      this.#send = this.#lose = undefined;
      this.#isKnown = false;
      clearTimeout(timer);
      clearTimeout(this.#renewal);
      socket.onmessage = socket.onclose = socket.onerror = null;
      socket.close();
      for (const subscription of this.#subscriptions) {
        subscription.number = undefined;
        clearTimeout(subscription.timer);
      }
      const calls = [...this.#calls.values()];
      this.#calls.clear();
      for (const { reject } of calls) reject(new GossipError("lost", "the connection ended before the answer"));
    }
  }

  /** Says who this is, and does so again before that ends. */
  async #authenticate(refusal) {
    const token = await this.#freshToken(refusal);
    if (!token || !this.#send) return;
    let answer;
    try {
      answer = await this.#call("authenticate", { token });
    } catch (error) {
      // Perhaps it has ended just now: another one, once.
      if (error.code !== NOT_AUTHENTICATED || refusal || typeof this.#token !== "function") throw error;
      return this.#authenticate(error);
    }
    const left = answer.expires ? Date.parse(answer.expires) - Date.now() : NaN;
    clearTimeout(this.#renewal);
    // Long ones are looked at again once a day: a timer cannot wait longer than some weeks.
    const wait = Math.min(Math.max(left * 0.8, 1_000), 86_400_000);
    if (left > 0 && typeof this.#token === "function") this.#renewal = setTimeout(() => this.#renew(), wait);
  }

  #renew() {
    const again = () => {
      for (const subscription of this.#subscriptions) {
        if (subscription.number === undefined) this.#begin(subscription);
      }
    };
    const failed = (error) => {
      if (typeof this.#token !== "function") return this.#end(error);
      clearTimeout(this.#renewal);
      this.#renewal = setTimeout(() => this.#renew(), 1_000);
    };
    this.#authenticate().then(again, failed);
  }

  /** Makes a call. `now` hears the answer at once, before whatever comes after it. */
  #call(method, params, now = undefined) {
    if (this.#calls.size >= MOST_WAITING) {
      return Promise.reject(new GossipError(LIMIT, `limit reached: ${MOST_WAITING} calls without an answer`));
    }
    const id = this.#nextId++;
    return new Promise((resolve, reject) => {
      this.#calls.set(id, { resolve, reject, now });
      this.#send(JSON.stringify({ jsonrpc: "2.0", id, method, params }));
    });
  }

  /** Takes a message. Returns why the instance is about to end the connection, if it says so. */
  #take(text) {
    const { id, method, params, result, error } = JSON.parse(text);
    if (method) return this.#notified(method, params);
    if (id === null && error) return refused(error);
    const call = this.#calls.get(id);
    this.#calls.delete(id);
    if (error) {
      call?.reject(refused(error));
      return;
    }
    call?.now?.(result);
    call?.resolve(result);
  }

  #notified(method, params) {
    if (method === "current") this.#current(params);
    else if (method === "expired") this.#renew();
    else {
      const concerned = [...this.#subscriptions].find((s) => s.number === params.subscription);
      if (concerned) this.#told(concerned, method, params);
    }
  }

  #current({ behind_ms }) {
    // It stays: what fails next is another failure.
    this.#attempts = 0;
    if (this.#state.behind_ms !== behind_ms) this.#say({ ...this.#state, behind_ms });
  }

  /** Something came for a subscription. Returns whether it goes on as it is. */
  #told(subscription, method, params) {
    if (method === "closed") {
      const { number } = subscription;
      subscription.number = undefined;
      // It begins again once there is another token.
      if (!params.why.startsWith("expired") || typeof this.#token !== "function") {
        this.#subscriptions.delete(subscription);
        subscription.end(new GossipError("closed", params.data?.message ?? params.why, params.data));
      } else if (number !== undefined) {
        // Perhaps another one was taken before this came: once more, for all that were closed with it.
        clearTimeout(this.#renewal);
        this.#renewal = setTimeout(() => this.#renew(), 0);
      }
      return number === undefined;
    }
    try {
      subscription.take(method, params);
    } catch (error) {
      if (error.code !== "mismatch") throw error;
      const { number } = subscription;
      subscription.number = undefined;
      if (number === undefined) return false;
      this.#call("unsubscribe", { subscription: number }).catch(() => {});
      subscription.mismatches = (subscription.mismatches ?? 0) + 1;
      subscription.timer = setTimeout(() => this.#begin(subscription), pause(subscription.mismatches));
    }
    return true;
  }

  async #begin(subscription) {
    if (this.#streams) return this.#stream(subscription, this.#streams);
    if (!this.#isKnown || subscription.beginning || subscription.ended || subscription.number !== undefined) return;
    subscription.beginning = true;
    try {
      await this.#call("subscribe", subscription.params, (answer) => {
        subscription.refusals = 0;
        if (subscription.ended) this.#call("unsubscribe", { subscription: answer.subscription }).catch(() => {});
        else subscription.answer(answer);
      });
    } catch (error) {
      this.#refusedSubscription(subscription, error, () => this.#begin(subscription));
    } finally {
      subscription.beginning = false;
    }
  }

  /** Tries again what may be taken later, and ends the rest. */
  #refusedSubscription(subscription, error, again) {
    if (error.code === "lost" || subscription.ended) return;
    if (error.code === UNAVAILABLE || error.code === LIMIT) {
      subscription.refusals = (subscription.refusals ?? 0) + 1;
      const wait = REFUSED_PAUSE_MS * 2 ** Math.min(subscription.refusals - 1, 5) * (0.5 + Math.random());
      subscription.timer = setTimeout(again, Math.max(error.data?.retry_after_ms ?? 0, wait));
      return;
    }
    this.#subscriptions.delete(subscription);
    subscription.end(error);
  }

  async #publish(publication) {
    const { topic, data, id, resolve, reject } = publication;
    try {
      if (this.#isKnown) resolve(await this.#call("publish", { topic, data, id }));
      else if (this.#streams) resolve(await this.#post(publication));
    } catch (error) {
      if (error.code !== "lost") reject(error);
    }
  }

  /** Server-sent events instead of a socket, until one of the streams is lost. Then the socket is tried once more. */
  async #overHttp({ http }) {
    const token = await this.#freshToken();
    const lost = new Promise((_, reject) => (this.#lose = reject));
    lost.catch(() => {});
    this.#failures = Math.max(this.#failures - 1, 0);
    this.#streams = { http, headers: token ? { Authorization: `Bearer ${token}` } : {} };
    try {
      for (const subscription of this.#subscriptions) this.#stream(subscription, this.#streams);
      for (const publication of this.#publications) this.#publish(publication);
      await lost;
    } finally {
      this.#streams = this.#lose = undefined;
      for (const { abort, timer } of this.#subscriptions) {
        abort?.abort();
        clearTimeout(timer);
      }
    }
  }

  /** Follows one query as server-sent events. */
  async #stream(subscription, streams) {
    const abort = (subscription.abort = new AbortController());
    const ends = () => this.#streams !== streams || abort.signal.aborted;
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(subscription.params)) {
      query.set(name, typeof value === "object" ? JSON.stringify(value) : String(value));
    }
    let timer;
    const silence = () => {
      clearTimeout(timer);
      timer = setTimeout(() => abort.abort(), SILENCE_MS);
    };
    try {
      silence();
      const { http, headers } = streams;
      const answer = await this.#fetch(`${http}/v1/live?${query}`, { headers, signal: abort.signal, cache: "no-store" });
      if (!answer.ok) throw await problem(answer);
      if (this.#state.status !== "open") this.#say({ status: "open", url: http, transport: "server-sent events" });
      for await (const { event, data } of events(answer.body, silence)) {
        if (ends()) return;
        if (event === "current") this.#current(data);
        else if (event === "rows" && data.columns) subscription.answer({ ...data, subscription: undefined });
        else if (!this.#told(subscription, event, data)) throw new GossipError("lost", `${http}: what came does not fit`);
        if (subscription.ended) return;
      }
      throw new GossipError("lost", `${http}: the stream ended`);
    } catch (e) {
      if (subscription.ended || this.#streams !== streams) return;
      const error = e instanceof GossipError ? e : new GossipError("lost", `${streams.http}: ${e?.message ?? e}`);
      if (error.code === "lost" || error.code === NOT_AUTHENTICATED) this.#lose?.(error);
      else this.#refusedSubscription(subscription, error, () => this.#streams === streams && this.#stream(subscription, streams));
    } finally {
      clearTimeout(timer);
    }
  }

  async #post({ topic, data, id }) {
    const { http, headers } = this.#streams;
    const event = { specversion: "1.0", type: topic, source: "/web", id, data, datacontenttype: "application/json" };
    const type = { "Content-Type": "application/cloudevents+json" };
    let answer;
    try {
      answer = await this.#fetch(`${http}/v1/events`, { method: "POST", headers: { ...headers, ...type }, body: JSON.stringify(event) });
    } catch (e) {
      throw new GossipError("lost", String(e?.message ?? e));
    }
    if (!answer.ok) throw await problem(answer);
    const { positions } = await answer.json();
    return { position: positions[0] };
  }
}

/** What an HTTP answer says that is none: problem details (RFC 9457). */
async function problem(answer) {
  const details = await answer.json().catch(() => ({}));
  const text = details.title ?? `${answer.status} ${answer.statusText}`;
  const code = details.code ?? (answer.status === 401 ? NOT_AUTHENTICATED : answer.status >= 500 ? UNAVAILABLE : answer.status);
  return new GossipError(code, text, details.data);
}

/** The events of a stream (WHATWG HTML, server-sent events). */
async function* events(body, onBytes) {
  const reader = body.pipeThrough(new TextDecoderStream()).getReader();
  let [rest, event, data] = ["", "message", ""];
  try {
    for (;;) {
      const { value, done } = await reader.read();
      if (done) return;
      onBytes();
      const lines = (rest + value).split(/\r\n|\n|\r(?!$)/);
      rest = lines.pop();
      for (const line of lines) {
        if (line === "") {
          if (data) yield { event, data: JSON.parse(data) };
          [event, data] = ["message", ""];
        } else if (line.startsWith("event:")) event = line.slice(6).trim();
        else if (line.startsWith("data:")) data += `${line.slice(5)}\n`;
      }
    }
  } finally {
    reader.cancel().catch(() => {});
  }
}

/**
 * Connects to an instance, or to one of several.
 * @param url `ws://…/v1/socket`, the instance's address, or a list of these
 * @param options `token`: a text, or a function that fetches one and is asked again before it ends
 */
export function connect(url, options = {}) {
  return new Client([url].flat(), options);
}
