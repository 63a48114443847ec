#!/usr/bin/env python3
"""Row changes of a cluster, read from its broker, and an event published there, without any of Gossip's code.

    harbour_watch.py BROKER_PORT PREFIX SOURCE COUNT [TOPIC JSON]

Subscribes to PREFIX/flow/rows/SOURCE on an MQTT 5 broker of this machine and prints every row change as a line of JSON,
until COUNT have come. With a topic and data it publishes one CloudEvent there first. What stands on the broker is
described in docs/protocol.md; the libraries are paho-mqtt and Python's own.
"""

import datetime
import json
import sys
import uuid

import paho.mqtt.client as mqtt
from paho.mqtt.packettypes import PacketTypes
from paho.mqtt.properties import Properties


def property_of(message, name):
    """A user property of a message, or None."""
    return dict(getattr(message.properties, "UserProperty", [])).get(name)


def main(port, prefix, source, count, topic=None, data=None):
    left = int(count)
    parts = []

    def connected(client, *_):
        client.subscribe(f"{prefix}/flow/rows/{source}", qos=1)

    def subscribed(client, *_):
        print(json.dumps({"listening": source}), flush=True)
        if topic:
            event = {
                "specversion": "1.0",
                "type": topic,
                "source": "/examples/harbour_watch",
                "id": str(uuid.uuid4()),
                "time": datetime.datetime.now(datetime.timezone.utc).isoformat().replace("+00:00", "Z"),
                "datacontenttype": "application/json",
                "data": json.loads(data),
            }
            form = Properties(PacketTypes.PUBLISH)
            form.ContentType = "application/cloudevents+json"
            client.publish(f"{prefix}/flow/topic/{topic}", json.dumps(event), qos=1, properties=form)

    def heard(client, _, message):
        nonlocal left, parts
        # What is larger than a message comes in parts, in order: "2/3" is the second of three.
        place, of = (property_of(message, "Gossip-Part") or "1/1").split("/")
        parts = parts + [message.payload] if place != "1" else [message.payload]
        if place != of or len(parts) != int(of):
            return
        event = json.loads(b"".join(parts))
        if event["specversion"] != "1.0" or event["type"] != "gossip.interval.v1":
            return
        for transaction in event["data"]["transactions"]:
            for change in transaction["changes"]:
                print(json.dumps({"position": transaction["position"], **change}), flush=True)
                left -= 1
        if left <= 0:
            client.disconnect()

    client = mqtt.Client(protocol=mqtt.MQTTv5)
    client.on_connect, client.on_subscribe, client.on_message = connected, subscribed, heard
    client.connect("127.0.0.1", int(port))
    client.loop_forever()


if __name__ == "__main__":
    if len(sys.argv) not in (5, 7):
        sys.exit(__doc__)
    main(*sys.argv[1:])
