// The conformance vectors against `LiveResult`: frames in, result out. The same in Node and in a browser.
import { LiveResult } from "../gossip.js";

/** The result after these frames, of which the first answers `subscribe`. */
function result(frames) {
  const live = new LiveResult();
  let number;
  for (const { result: answer, method, params } of frames) {
    if (answer) {
      number = answer.subscription;
      live.answer(answer);
    } else if (params.subscription === number) {
      live.take(method, params);
    }
  }
  return live;
}

const same = (a, b) => JSON.stringify(sorted(a)) === JSON.stringify(sorted(b));

/** With the members of objects in one order. */
function sorted(value) {
  if (Array.isArray(value)) return value.map(sorted);
  if (value === null || typeof value !== "object") return value;
  return Object.fromEntries(Object.keys(value).sort().map((name) => [name, sorted(value[name])]));
}

/** What is wrong with the client, by a vector; `undefined` for nothing. */
export function wrong({ frames, fails, rows, cursor, complete, columns }) {
  let live;
  try {
    live = result(frames);
  } catch (error) {
    return fails && error.code === "mismatch" ? undefined : `fails: ${error}`;
  }
  if (fails) return "does not notice that something is missing";
  const expected = rows.map(({ row }) => row);
  if (!same(live.rows, expected)) return `has ${JSON.stringify(live.rows)} and not ${JSON.stringify(expected)}`;
  if (live.cursor !== cursor) return `stands at ${live.cursor} and not at ${cursor}`;
  if (live.complete !== complete) return `is ${live.complete ? "" : "not "}complete`;
  const names = live.columns.map(({ name }) => name);
  if (columns && !same(names, columns)) return `has the columns ${names}`;
}
