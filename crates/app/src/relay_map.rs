//! A drawing of the cluster: source, reader, relay, instances, clients, with the rates between them. Made from the system
//! tables of one instance; drawn on screen by the Relay view, and on a page here.

use std::collections::BTreeMap;

use gossip_draw::{Colour, Drawing, Shape, fit, text_width};
use gossip_protocol::system::{InstanceRow, LinkRow};

/// An instance.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Node {
    /// Its name.
    pub name: String,
    /// Where it listens.
    pub address: String,
    /// Whether it is the reader.
    pub reads: bool,
    /// State of its reader.
    pub state: String,
    /// Whether it is connected to the broker.
    pub connected: bool,
    /// How long it has been gone, in seconds, if it is.
    pub away: Option<i64>,
    /// Milliseconds since it was last current; 0 if it is.
    pub behind_ms: u64,
    /// Connected clients.
    pub clients: u64,
    /// Subscriptions.
    pub subscriptions: u64,
    /// Row changes per second.
    pub changes: f64,
    /// Deltas delivered per second.
    pub deliveries: f64,
    /// Round trip of one of its own messages through the relay, in milliseconds.
    pub round_trip: Option<f64>,
    /// Messages waiting for it.
    pub waiting: u64,
    /// Messages lost.
    pub lost: u64,
    /// Malformed messages.
    pub malformed: u64,
    /// The newest malformed message, and what is wrong with it.
    pub last_malformed: String,
    /// Other programs' topics that it ingests.
    pub foreign: String,
    /// The hash of its rules.
    pub rules: String,
}

impl Node {
    /// What is wrong with it, if anything.
    pub fn trouble(&self) -> Option<String> {
        if let Some(seconds) = self.away {
            return Some(format!("not there for {seconds} s"));
        }
        if !self.connected {
            return Some("cut off from the relay".into());
        }
        (self.behind_ms > 0).then(|| format!("behind by {} ms", self.behind_ms))
    }
}

/// The cluster.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Picture {
    /// The source's name.
    pub source: String,
    /// The kind of relay.
    pub relay: String,
    /// What the broker says of itself, and how much it stores.
    pub broker: String,
    /// The instances, by name.
    pub nodes: Vec<Node>,
    /// When it was taken, RFC 3339.
    pub at: String,
}

/// Counters of an instance with their time, to compute rates from.
pub type Counted = BTreeMap<String, (i64, i64, i64)>;

impl Picture {
    /// From rows of `gossip.instances` and `gossip.links`, by instance. `rates` returns row changes and deltas per second.
    pub fn new(
        instances: &BTreeMap<String, InstanceRow>,
        links: &BTreeMap<String, LinkRow>,
        rates: impl Fn(&str) -> (f64, f64),
        at: String,
    ) -> Picture {
        // Without a row yet, do not show it as cut off.
        let none = LinkRow { connected: true, ..LinkRow::default() };
        let node = |(name, row): (&String, &InstanceRow)| {
            let link = links.get(name).unwrap_or(&none);
            let (changes, deliveries) = rates(name);
            Node {
                name: name.clone(),
                address: row.address.clone(),
                reads: row.reads,
                state: row.state.clone(),
                away: None,
                connected: link.connected,
                behind_ms: row.behind_ms,
                clients: row.clients,
                subscriptions: row.subscriptions,
                changes,
                deliveries,
                round_trip: link.delay_ms,
                waiting: link.waiting,
                lost: link.lost,
                malformed: link.malformed,
                last_malformed: link.last_malformed.clone().unwrap_or_default(),
                foreign: link.foreign.clone(),
                rules: row.rules.clone(),
            }
        };
        Picture {
            source: instances.values().map(|r| r.source.clone()).find(|s| !s.is_empty()).unwrap_or_default(),
            relay: links.values().map(|r| r.kind.clone()).find(|k| !k.is_empty()).unwrap_or_default(),
            broker: links.values().map(of_broker).find(|text| !text.is_empty()).unwrap_or_default(),
            nodes: instances.iter().map(node).collect(),
            at,
        }
    }

    /// The instance that reads the source.
    pub fn reader(&self) -> Option<&Node> {
        self.nodes.iter().find(|n| n.reads)
    }

    /// Whether instances have different rules.
    pub fn differ(&self) -> bool {
        self.nodes.windows(2).any(|w| w[0].rules != w[1].rules)
    }

    /// Whether anything is wrong anywhere.
    pub fn has_trouble(&self) -> bool {
        self.differ() || self.reader().is_none() || self.nodes.iter().any(|n| n.trouble().is_some())
    }
}

/// What a broker says of itself, and how much it stores.
fn of_broker(link: &LinkRow) -> String {
    let stored = link.stored.map(|n| {
        let size = link.stored_bytes.map_or(String::new(), |bytes| format!(", {}", bytes_text(bytes)));
        format!("stores {}{size}", crate::workbench::words::counted(n as usize, "message", "messages"))
    });
    link.broker.iter().cloned().chain(stored).collect::<Vec<_>>().join(", ")
}

/// Bytes in the unit that suits them.
fn bytes_text(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1_000),
        _ => format!("{:.1} MB", bytes as f64 / 1e6),
    }
}

/// A rate with few digits.
pub fn rate(per_second: f64) -> String {
    match per_second {
        r if r >= 100.0 => format!("{r:.0}/s"),
        r => format!("{r:.1}/s"),
    }
}

const INK: Colour = [34, 38, 44];
const GREY: Colour = [122, 128, 136];
const FAINT: Colour = [214, 217, 220];
const PAPER: Colour = [246, 245, 241];
const GOOD: Colour = [20, 118, 78];
const BAD: Colour = [176, 60, 36];

/// The drawing on a page, A4 landscape.
#[expect(clippy::too_many_lines, reason = "one page, from left to right")]
pub fn page(p: &Picture) -> Drawing {
    let mut d = Drawing::landscape(format!("{}: how changes travel", p.source));
    let right = d.size.0 - 40.0;
    d.text(
        (40.0, 48.0),
        13.0,
        true,
        INK,
        format!("{}: how changes travel between {} instances", p.source, p.nodes.len()),
    );
    d.text((40.0, 64.0), 8.0, false, GREY, format!("as of {}", p.at));
    let (top, bottom) = (110.0, d.size.1 - 60.0);
    let shown = p.nodes.len().min(12);
    let step = ((bottom - top) / shown.max(1) as f32).min(80.0);
    let height = step * shown as f32;
    let (begin, middle) = (top + (bottom - top - height) / 2.0, (top + bottom) / 2.0);
    // Source, reader and relay.
    let (source, relay, instances) = (40.0, 310.0, 490.0);
    let (wide, high) = (130.0, 44.0);
    let station = |d: &mut Drawing, x: f32, y: f32, name: &str, below: &str, edge: Colour| {
        let points =
            vec![(x, y - high / 2.0), (x + wide, y - high / 2.0), (x + wide, y + high / 2.0), (x, y + high / 2.0)];
        d.shapes.push(Shape::Polygon { points, fill: Some(PAPER), edge: Some(edge) });
        d.text((x + 8.0, y - 3.0), 10.0, true, INK, fit(name, 10.0, wide - 16.0));
        d.text((x + 8.0, y + 11.0), 7.5, false, GREY, fit(below, 7.5, wide - 16.0));
    };
    let arrow = |d: &mut Drawing, from: (f32, f32), to: (f32, f32), colour: Colour, label: &str| {
        d.line(from, to, 1.2, colour);
        let (dx, dy) = (to.0 - from.0, to.1 - from.1);
        let length = (dx * dx + dy * dy).sqrt().max(1.0);
        let (ux, uy) = (dx / length, dy / length);
        let back = (to.0 - ux * 7.0, to.1 - uy * 7.0);
        let points = vec![to, (back.0 - uy * 3.0, back.1 + ux * 3.0), (back.0 + uy * 3.0, back.1 - ux * 3.0)];
        d.shapes.push(Shape::Polygon { points, fill: Some(colour), edge: None });
        let at = ((from.0 + to.0) / 2.0 - text_width(label, 7.5) / 2.0, (from.1 + to.1) / 2.0 - 5.0);
        d.text(at, 7.5, false, INK, label);
    };
    station(&mut d, source, middle, &p.source, "the source", INK);
    let reader = p.reader();
    let says = reader.map_or("nobody reads it".to_string(), |r| format!("read by {}, {}", r.name, rate(r.changes)));
    let colour = if reader.is_some() { GOOD } else { BAD };
    arrow(&mut d, (source + wide, middle), (relay, middle), colour, &says);
    station(&mut d, relay, middle, &p.relay, "the relay", INK);
    d.text((relay, middle + high / 2.0 + 13.0), 7.5, false, GREY, fit(&p.broker, 7.5, instances - relay - 12.0));
    for (i, n) in p.nodes.iter().take(shown).enumerate() {
        let y = begin + step * (i as f32 + 0.5);
        let colour = if n.trouble().is_some() { BAD } else { GOOD };
        arrow(&mut d, (relay + wide, middle), (instances, y), colour, "");
        let below = n.trouble().unwrap_or_else(|| format!("{}, current", n.address));
        station(&mut d, instances, y, &n.name, &below, colour);
        let clients = format!("{} clients, {} live queries", n.clients, n.subscriptions);
        d.line((instances + wide, y), (instances + wide + 14.0, y), 1.2, FAINT);
        d.text(
            (instances + wide + 18.0, y - 2.0),
            8.0,
            false,
            INK,
            fit(&clients, 8.0, right - instances - wide - 18.0),
        );
        let delay = n.round_trip.map_or(String::new(), |t| format!(", round trip {t:.1} ms"));
        let waiting = if n.waiting > 0 { format!(", {} messages wait for it", n.waiting) } else { String::new() };
        let heard = format!("{} deltas{delay}{waiting}", rate(n.deliveries));
        d.text((instances + wide + 18.0, y + 9.0), 8.0, false, GREY, fit(&heard, 8.0, right - instances - wide - 18.0));
    }
    if p.nodes.len() > shown {
        d.text((instances, bottom + 14.0), 8.0, false, GREY, format!("and {} more", p.nodes.len() - shown));
    }
    let foot = d.size.1 - 24.0;
    let notes = "Round trips are those of an instance's own messages over the relay.";
    d.text((40.0, foot), 7.0, false, GREY, if p.differ() { "Instances have different rules." } else { notes });
    d
}

/// The same as text.
pub fn words(p: &Picture) -> String {
    let mut out = format!(
        "{}: read by {}, over {}; as of {}\n",
        p.source,
        p.reader().map_or("nobody", |r| &r.name),
        p.relay,
        p.at
    );
    if !p.broker.is_empty() {
        out += &format!("the broker: {}\n", p.broker);
    }
    for n in &p.nodes {
        let state = n.trouble().unwrap_or_else(|| "current".into());
        out += &format!(
            "{:<12} {:<22} {state:<24} {} changes {} deltas {} clients {} live queries\n",
            n.name,
            n.address,
            rate(n.changes),
            rate(n.deliveries),
            n.clients,
            n.subscriptions
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_picture_says_who_reads_who_is_behind_and_who_is_cut_off() {
        let row = |name: &str, reads: bool, behind_ms: u64| {
            let (address, source, rules) = ("h:1".into(), "harbour".into(), "abc".into());
            let about = InstanceRow { address, source, rules, clients: 3, subscriptions: 4, ..InstanceRow::default() };
            (name.to_string(), InstanceRow { name: name.into(), reads, behind_ms, ..about })
        };
        let link = |name: &str, connected: bool| {
            let (instance, kind) = (name.to_string(), "nats".into());
            (name.into(), LinkRow { instance, kind, connected, delay_ms: Some(0.8), ..LinkRow::default() })
        };
        let instances = BTreeMap::from([row("east", true, 0), row("far", false, 900), row("west", false, 0)]);
        let links = BTreeMap::from([link("east", true), link("far", true), link("west", false)]);
        let p = Picture::new(&instances, &links, |_| (12.34, 250.6), "now".into());
        assert_eq!(
            (p.source.as_str(), p.relay.as_str(), p.reader().map(|n| n.name.as_str())),
            ("harbour", "nats", Some("east"))
        );
        let trouble: Vec<_> = p.nodes.iter().map(Node::trouble).collect();
        assert_eq!(trouble, [None, Some("behind by 900 ms".into()), Some("cut off from the relay".into())]);
        assert!(p.has_trouble() && !p.differ());
        let svg = page(&p).to_svg();
        for text in [
            "read\u{a0}by\u{a0}east,\u{a0}12.3/s",
            "behind\u{a0}by\u{a0}900\u{a0}ms",
            "251/s\u{a0}deltas",
            "0.8\u{a0}ms",
        ] {
            assert!(svg.contains(text), "{text}");
        }
        assert!(words(&p).contains("west") && words(&p).contains("cut off"));
        // Nobody, and very many.
        let none = page(&Picture::new(&BTreeMap::new(), &BTreeMap::new(), |_| (0.0, 0.0), String::new()));
        assert!(none.to_svg().contains("nobody\u{a0}reads\u{a0}it"));
        let many = (0..40).map(|i| row(&format!("n{i:02}"), i == 0, 0)).collect();
        assert!(page(&Picture::new(&many, &links, |_| (0.0, 0.0), String::new())).to_svg().contains("28\u{a0}more"));
    }
}
