#!/usr/bin/env node
// Follows one live query and prints each state of its result as a line of JSON.
//
//   node watch.mjs HOST:PORT QUERY [TOKEN]
//
// Node 22 has a WebSocket of its own; older ones follow the query as server-sent events.
import { connect } from "../clients/web/gossip.js";

const [address, query, token] = process.argv.slice(2);
if (!query) {
  console.error("usage: node watch.mjs HOST:PORT QUERY [TOKEN]");
  process.exit(2);
}

const client = connect(address, {
  token,
  onState: ({ status, error, retry_ms }) => {
    if (status === "waiting") console.error(`${error.message}; again in ${retry_ms} ms`);
  },
});
const onError = (error) => {
  console.error(`${error.code}: ${error.message}`);
  process.exit(1);
};
client.subscribe(query, { onError }, (rows) => console.log(JSON.stringify(rows)));
