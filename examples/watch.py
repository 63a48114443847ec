#!/usr/bin/env python3
"""Follows one live query and prints each state of its result as a line of JSON.

    watch.py HOST:PORT QUERY [TOKEN]

The library is websockets (Debian: python3-websockets). docs/clients.md says what each step is for.
"""

import asyncio
import json
import random
import sys

import websockets


class Mismatch(Exception):
    """Something was lost on the way."""


class Result:
    def __init__(self):
        self.rows, self.order, self.shape, self.cursor, self.whole = {}, [], "keyed", None, False

    def take(self, entries):
        for entry in entries:
            self.put(entry["key"], entry.get("row", {}))

    def put(self, key, row):
        # Rows of a stream have no key: each is one more.
        name = len(self.order) if self.shape == "stream" else json.dumps(key)
        if name not in self.rows:
            self.order.append(name)
        self.rows[name] = row

    def replace(self, told):
        self.rows, self.order = {}, []
        self.take(told.get("rows", []))

    def change(self, changes):
        out, placed = set(), []
        for change in changes:
            name = json.dumps(change["key"])
            if change["op"] == "add":
                self.put(change["key"], change.get("row", {}))
            elif name not in self.rows:
                raise Mismatch(name)
            elif change["op"] == "replace":
                self.rows[name] = {**self.rows[name], **change.get("row", {})}
            else:
                del self.rows[name]
                out.add(name)
            if "place" in change:
                placed.append((change["place"], name))
        out |= {name for _, name in placed}
        if out:
            self.order = [name for name in self.order if name not in out]
        for place, name in sorted(placed):
            if place > len(self.order):
                raise Mismatch(name)
            self.order.insert(place, name)

    def show(self):
        print(json.dumps([self.rows[name] for name in self.order]), flush=True)


async def follow(result, socket, query):
    asked = {"query": query} if not result.whole else {"query": query, "cursor": result.cursor}
    await socket.send(json.dumps({"jsonrpc": "2.0", "id": 1, "method": "subscribe", "params": asked}))
    number = None
    while True:
        # An instance says every second or two how current it is.
        message = json.loads(await asyncio.wait_for(socket.recv(), 10))
        told = message.get("result") or message.get("params")
        if "error" in message:
            sys.exit(f"{message['error']['code']}: {message['error']['message']}")
        if "result" in message:
            number = told["subscription"]
            if told.get("resumed"):
                continue
            result.shape, result.whole = told["shape"], False
            result.replace(told)
        elif told.get("subscription") != number:
            continue
        elif message["method"] == "rows":
            result.take(told["rows"])
        elif message["method"] == "snapshot":
            result.replace(told)
        elif message["method"] == "delta":
            if told["cursor"] == result.cursor:
                raise Mismatch("the same delta twice")
            result.change(told.get("changes", []))
        else:
            sys.exit(f"{message['method']}: {told.get('why')}")
        result.cursor = told.get("cursor", result.cursor)
        if not told.get("more"):
            result.whole = True
            result.show()


async def main(address, query, token=None):
    result, pause = Result(), 0.1
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    while True:
        try:
            url = f"ws://{address}/v1/socket"
            async with websockets.connect(url, subprotocols=["gossip.v1"], extra_headers=headers) as socket:
                pause = 0.1
                await follow(result, socket, query)
        except Mismatch:
            result = Result()
        except (OSError, asyncio.TimeoutError, websockets.WebSocketException) as error:
            print(f"{error}; again in {pause:.1f} s at most", file=sys.stderr)
        await asyncio.sleep(random.random() * pause)
        pause = min(2 * pause, 5)


if __name__ == "__main__":
    if len(sys.argv) not in (3, 4):
        sys.exit(__doc__)
    asyncio.run(main(*sys.argv[1:]))
