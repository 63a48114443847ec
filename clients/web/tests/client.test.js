import assert from "node:assert/strict";
import test from "node:test";

import { connect } from "../gossip.js";

/** A queue whose reader waits, but not for ever. */
function queue(what) {
  const [items, waiting] = [[], []];
  return {
    push: (item) => (waiting.length ? waiting.shift()(item) : items.push(item)),
    next: () =>
      new Promise((resolve, reject) => {
        if (items.length) return resolve(items.shift());
        const timer = setTimeout(() => reject(new Error(`no ${what} within 20 s`)), 20_000);
        waiting.push((item) => (clearTimeout(timer), resolve(item)));
      }),
    get length() {
      return items.length;
    },
  };
}

/** Instances that a test plays: `next()` is the next connection that a client makes. */
function instances({ refuse = () => false } = {}) {
  const connections = queue("connection");
  class Socket {
    constructor(url, protocol) {
      assert.equal(protocol, "gossip.v1");
      const calls = queue("call");
      this.connection = {
        url,
        call: async (method) => {
          const call = await calls.next();
          assert.equal(call.method, method);
          return call;
        },
        get waiting() {
          return calls.length;
        },
        answer: ({ id }, result) => this.onmessage?.({ data: JSON.stringify({ jsonrpc: "2.0", id, result }) }),
        refuse: ({ id }, error) => this.onmessage?.({ data: JSON.stringify({ jsonrpc: "2.0", id, error }) }),
        tell: (method, params) => this.onmessage?.({ data: JSON.stringify({ jsonrpc: "2.0", method, params }) }),
        end: (code, reason = "") => this.onclose?.({ code, reason }),
      };
      this.calls = calls;
      queueMicrotask(() => {
        if (refuse(url)) return this.onerror?.({});
        this.onopen?.();
        connections.push(this.connection);
      });
    }
    send(text) {
      this.calls.push(JSON.parse(text));
    }
    close() {}
  }
  return { WebSocket: Socket, next: connections.next };
}

const columns = [{ name: "id", type: "int8", key: true }];
const rows = (...ids) => ids.map((id) => ({ key: [id], row: { id } }));
const answer = (subscription, cursor, ids, more = {}) => ({ subscription, columns, shape: "keyed", rows: rows(...ids), cursor, ...more });
const add = (id) => ({ op: "add", key: [id], row: { id } });
const delta = (subscription, cursor, changes, more = {}) => ({ subscription, cursor, at: "2026-11-30T12:00:00Z", changes, ...more });
const ids = (rows) => rows.map(({ id }) => id);

/** A client with one subscription whose states come in a queue. */
function follow(t, options, urls = ["ws://north", "http://south:4751/"]) {
  const states = queue("state of the result");
  const client = connect(urls, options);
  t.after(() => client.close());
  const subscription = client.subscribe("SELECT id FROM calls", { params: { a: 1 } }, (rows, delta) => states.push([ids(rows), delta]));
  return { client, subscription, states };
}

test("a result comes, changes, and is shown only as it was committed", async (t) => {
  const { WebSocket, next } = instances();
  const { client, subscription, states } = follow(t, { WebSocket });
  const north = await next();
  assert.equal(north.url, "ws://north/v1/socket");
  const call = await north.call("subscribe");
  assert.deepEqual(call.params, { query: "SELECT id FROM calls", params: { a: 1 } });
  north.answer(call, answer(7, "c0", [1], { more: true }));
  north.tell("rows", { subscription: 7, part: 1, rows: rows(2) });
  assert.deepEqual(await states.next(), [[1, 2], { changes: [], why: "first" }]);
  assert.deepEqual(ids(await subscription.ready), [1, 2]);
  north.tell("delta", delta(7, "c1", [add(3)], { more: true }));
  north.tell("delta", delta(7, "c2", [{ op: "remove", key: [1] }]));
  const [shown, { changes }] = await states.next();
  assert.deepEqual([shown, changes.length], [[2, 3], 2]);
  north.tell("snapshot", { subscription: 7, rows: rows(9), cursor: "c3", why: "caught-up" });
  assert.deepEqual(await states.next(), [[9], { changes: [], why: "caught-up" }]);
  subscription.close();
  assert.deepEqual((await north.call("unsubscribe")).params, { subscription: 7 });
});

test("a lost connection goes on elsewhere, from where it was", async (t) => {
  const { WebSocket, next } = instances();
  const { client, states } = follow(t, { WebSocket });
  const north = await next();
  north.answer(await north.call("subscribe"), answer(1, "c0", [1]));
  await states.next();
  north.tell("delta", delta(1, "c1", [add(2)]));
  assert.deepEqual((await states.next())[0], [1, 2]);
  north.end(1012, "restart");
  const south = await next();
  assert.equal(south.url, "ws://south:4751/v1/socket");
  const call = await south.call("subscribe");
  assert.equal(call.params.cursor, "c1");
  south.answer(call, { subscription: 5, columns, cursor: "c1", resumed: true });
  south.tell("delta", delta(5, "c2", [add(3)]));
  assert.deepEqual(await states.next(), [[1, 2, 3], { changes: [add(3)], at: "2026-11-30T12:00:00Z" }]);
});

test("a result of which parts are missing is asked for anew", async (t) => {
  const { WebSocket, next } = instances();
  const { client, states } = follow(t, { WebSocket });
  const north = await next();
  north.answer(await north.call("subscribe"), answer(1, "c0", [1], { more: true }));
  north.end(1006);
  const south = await next();
  const call = await south.call("subscribe");
  assert.equal(call.params.cursor, undefined);
  south.answer(call, answer(1, "c4", [1, 2]));
  assert.deepEqual(await states.next(), [[1, 2], { changes: [], why: "first" }]);
});

test("what does not fit is asked for anew, and never shown", async (t) => {
  const { WebSocket, next } = instances();
  const { client, states } = follow(t, { WebSocket });
  const north = await next();
  north.answer(await north.call("subscribe"), answer(1, "c0", [1]));
  await states.next();
  north.tell("delta", delta(1, "c2", [{ op: "replace", key: [8], row: { id: 8 } }]));
  assert.deepEqual((await north.call("unsubscribe")).params, { subscription: 1 });
  const call = await north.call("subscribe");
  assert.equal(call.params.cursor, undefined);
  north.answer(call, answer(2, "c2", [1, 8]));
  assert.deepEqual(await states.next(), [[1, 8], { changes: [], why: "renewed" }]);
});

test("a token is fetched, renewed before it ends, and asked for again when it is refused", async (t) => {
  const { WebSocket, next } = instances();
  const asked = [];
  const token = async (refused) => (asked.push(refused?.code), `token ${asked.length}`);
  const { client, states } = follow(t, { WebSocket, token });
  const north = await next();
  const first = await north.call("authenticate");
  assert.equal(north.waiting, 0, "nothing is asked for before it is known for whom");
  north.refuse(first, { code: -32001, message: "the token has expired" });
  const second = await north.call("authenticate");
  assert.deepEqual([first, second].map((call) => call.params.token), ["token 1", "token 2"]);
  assert.deepEqual(asked, [undefined, -32001]);
  north.answer(second, { subject: "tove", roles: [], expires: new Date(Date.now() + 1_000).toISOString() });
  north.answer(await north.call("subscribe"), answer(1, "c0", [1]));
  await states.next();
  const renewed = await north.call("authenticate");
  assert.equal(renewed.params.token, "token 3");
  north.answer(renewed, { subject: "tove", roles: [], expires: new Date(Date.now() + 3_600_000).toISOString() });
  // The instance was faster: it asks, and has closed the subscription, which begins again.
  north.tell("expired", { closes_ms: 0 });
  const late = await north.call("authenticate");
  north.tell("closed", { subscription: 1, why: "expired: authenticate with a new token and subscribe again" });
  north.answer(late, { subject: "tove", roles: [], expires: new Date(Date.now() + 3_600_000).toISOString() });
  const again = await north.call("subscribe");
  assert.equal(again.params.cursor, "c0");
});

test("nothing is asked for as somebody else, while a token is fetched or a token has ended", async (t) => {
  const { WebSocket, next } = instances();
  let give;
  const token = () => new Promise((resolve) => (give = resolve));
  const { client, states } = follow(t, { WebSocket, token });
  const north = await next();
  const other = client.subscribe("SELECT id FROM berths");
  const published = client.publish("vhf", {});
  client.join("quay");
  await new Promise((resolve) => setTimeout(resolve));
  assert.equal(north.waiting, 0);
  give("t");
  const known = { subject: "tove", roles: [], expires: new Date(Date.now() + 3_600_000).toISOString() };
  north.answer(await north.call("authenticate"), known);
  await north.call("join");
  north.answer(await north.call("subscribe"), answer(1, "c0", [1]));
  north.answer(await north.call("subscribe"), answer(2, "b0", [1]));
  north.answer(await north.call("publish"), { position: "vhf:1" });
  await Promise.all([states.next(), other.ready, published]);
  // Closed without a word before: another token comes first here too, and both begin again, once.
  for (const subscription of [1, 2]) north.tell("closed", { subscription, why: "expired: authenticate" });
  await new Promise((resolve) => setTimeout(resolve, 5));
  assert.equal(north.waiting, 0);
  give("t2");
  north.answer(await north.call("authenticate"), known);
  north.answer(await north.call("subscribe"), answer(3, "c0", [1]));
  north.answer(await north.call("subscribe"), answer(4, "b0", [1]));
  await states.next();
  assert.equal(north.waiting, 0);
});

test("a token that is refused and does not change ends the client", async (t) => {
  const { WebSocket, next } = instances();
  const { client, subscription } = follow(t, { WebSocket, token: "stale" });
  const north = await next();
  north.refuse(await north.call("authenticate"), { code: -32001, message: "the token has expired" });
  await assert.rejects(subscription.ready, { code: -32001 });
  assert.equal(client.state.status, "closed");
  await assert.rejects(client.publish("vhf", {}), { code: "closed" });
});

test("a refused query ends its subscription; one that may be taken later is asked for again", async (t) => {
  const { WebSocket, next } = instances();
  const { client, states, subscription } = follow(t, { WebSocket });
  const errors = queue("error");
  const other = client.subscribe("SELECT nothing", { onError: errors.push });
  const north = await next();
  north.refuse(await north.call("subscribe"), { code: -32006, message: "not now", data: { retry_after_ms: 1 } });
  north.refuse(await north.call("subscribe"), { code: -32003, message: "expected FROM", data: { line: 1 } });
  const error = await errors.next();
  assert.deepEqual([error.code, error.data, other.ended], [-32003, { line: 1 }, true]);
  await assert.rejects(other.ready, { code: -32003 });
  north.answer(await north.call("subscribe"), answer(1, "c0", [1]));
  await states.next();
  north.tell("closed", { subscription: 1, why: "query-failed", data: { message: "division by zero" } });
  assert.equal(subscription.ended, true);
});

test("a publication is sent again under its id, and presence goes on", async (t) => {
  const { WebSocket, next } = instances();
  const client = connect(["ws://north", "ws://south"], { WebSocket });
  t.after(() => client.close());
  client.join("quay", { who: "Tove" });
  const published = client.publish("vhf", { text: "hello" });
  const north = await next();
  const join = await north.call("join");
  assert.deepEqual(join.params, { place: "quay", data: { who: "Tove" } });
  const first = await north.call("publish");
  north.end(1006);
  const south = await next();
  await south.call("join");
  const second = await south.call("publish");
  assert.deepEqual(second.params, first.params);
  south.answer(second, { position: "vhf:4" });
  assert.deepEqual(await published, { position: "vhf:4" });
});

test("where no socket opens, server-sent events take its place", async (t) => {
  const { WebSocket } = instances({ refuse: () => true });
  const requests = queue("request");
  const fetch = async (url, { method = "GET", headers, body, signal }) => {
    let stream;
    const source = new ReadableStream({ start: (controller) => (stream = controller) });
    signal?.addEventListener("abort", () => stream.error(signal.reason));
    const say = (text) => stream.enqueue(new TextEncoder().encode(text));
    requests.push({ url: new URL(url), method, headers, body: body && JSON.parse(body), say, end: () => stream.close() });
    return { ok: true, body: source, json: async () => ({ positions: ["vhf:1"] }) };
  };
  const { client, states } = follow(t, { WebSocket, fetch, token: () => "t" }, ["ws://north"]);
  const request = await requests.next();
  assert.equal(request.url.pathname, "/v1/live");
  assert.deepEqual(Object.fromEntries(request.url.searchParams), { query: "SELECT id FROM calls", params: '{"a":1}' });
  assert.equal(request.headers.Authorization, "Bearer t");
  const whole = `event: rows\r\ndata: ${JSON.stringify(answer(1, "c0", [1]))}\nid: c0\n\n`;
  request.say(whole.slice(0, 30));
  request.say(whole.slice(30));
  assert.deepEqual((await states.next())[0], [1]);
  request.say(`event: delta\ndata: ${JSON.stringify(delta(1, "c1", [add(2)]))}\nid: c1\n\n`);
  assert.deepEqual((await states.next())[0], [1, 2]);
  assert.deepEqual(await client.publish("vhf", { text: "hello" }, { id: "e1" }), { position: "vhf:1" });
  const posted = await requests.next();
  assert.deepEqual([posted.url.pathname, posted.body.type, posted.body.id], ["/v1/events", "vhf", "e1"]);
  // What is closed leaves the others alone.
  const other = client.subscribe("SELECT id FROM berths");
  const its = await requests.next();
  other.close();
  await assert.rejects(async () => its.say("event: current\n\n"));
  request.say(`event: delta\ndata: ${JSON.stringify(delta(1, "c2", [add(3)]))}\nid: c2\n\n`);
  assert.deepEqual((await states.next())[0], [1, 2, 3]);
  request.end();
  const again = await requests.next();
  assert.equal(again.url.searchParams.get("cursor"), "c2");
  // What does not fit is asked for anew there too.
  again.say(`event: rows\ndata: ${JSON.stringify({ subscription: 1, columns, cursor: "c2", resumed: true })}\n\n`);
  again.say(`event: delta\ndata: ${JSON.stringify(delta(1, "c3", [{ op: "remove", key: [9] }]))}\n\n`);
  const anew = await requests.next();
  assert.equal(anew.url.searchParams.get("cursor"), null);
  client.close();
  await assert.rejects(async () => anew.say("event: current\n\n"), "nothing is read any more");
});
