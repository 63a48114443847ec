// Follows a query as server-sent events, prints each state as a line of JSON, and publishes what it is told to.
//   node stream.js URL TOKEN QUERY [TOPIC DATA]
import { connect } from "../gossip.js";

const [url, token, query, topic, data] = process.argv.slice(2);
const client = connect(url, { token: () => token, WebSocket: null });
const say = (said) => console.log(JSON.stringify(said));
client.subscribe(query, { onError: ({ code, message }) => say({ code, message }) }, (rows, { why }) => say({ rows, why }));
if (topic) client.publish(topic, JSON.parse(data)).then(say, ({ message }) => say({ message }));
