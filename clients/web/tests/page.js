// Two people in a browser, at real instances. What they see is told to whoever serves this page, who decides what happens next.
import { connect } from "../gossip.js";
import { wrong } from "./vectors.js";

// With numbers: requests may overtake each other.
let number = 0;
const say = (what, more = {}) => fetch("/said", { method: "POST", body: JSON.stringify({ what, number: ++number, ...more }) });

addEventListener("error", ({ message }) => say("error", { message }));
addEventListener("unhandledrejection", ({ reason }) => say("error", { message: String(reason) }));

const { vectors, urls, people } = await (await fetch("/scene")).json();
const failures = vectors.map((vector) => [vector.name, wrong(vector)]).filter(([, why]) => why);
say("vectors", { count: vectors.length, failures });

for (const who of people) {
  // Short tokens, so that they are renewed while this runs.
  const token = async () => (await fetch(`/token?who=${who}`)).text();
  const client = connect(urls, { token, onState: ({ status, url, error }) => say("state", { who, status, url, error: error?.message }) });
  client.subscribe("SELECT id, status FROM calls ORDER BY id LIMIT 2", {}, (rows, { why }) => say("window", { who, rows, why }));
  client.subscribe("SELECT count(*) AS n FROM calls", {}, (rows, { why }) => say("count", { who, rows, why }));
  client.subscribe("SELECT text FROM vhf", {}, (rows, { why }) => say("vhf", { who, rows, why }));
  client.join(`berth of ${who}`, { here: true }).catch((error) => say("error", { message: error.message }));
  client.subscribe("SELECT place FROM gossip.presence", {}, (rows, { why }) => say("present", { who, rows, why }));
  client.publish("vhf", { text: `${who} is here` }).catch((error) => say("error", { message: error.message }));
}
