//! What somebody has to do something about, from everything that instances and watchers tell.

use crate::workbench::marks::Mark;
use crate::workbench::state::{Alarm, Link, State};
use crate::workbench::views::relay::update::picture;
use crate::workbench::words::{counted, span};

/// Lines that are looked at for what was missed: the newest.
const LOOKED: usize = 400;

fn alarm(what: impl Into<String>, text: impl Into<String>) -> Alarm {
    Alarm { what: what.into(), text: text.into() }
}

/// Everything, the worst first.
pub fn all(s: &State) -> Vec<Alarm> {
    let mut all = Vec::new();
    let missed: usize = s
        .lines
        .iter()
        .take(if s.recorded { 0 } else { LOOKED })
        .map(|line| s.watchers.iter().filter(|w| s.mark(line, w) == Mark::Missed).count())
        .sum();
    if missed > 0 {
        let text = "They should have arrived and did not: filter Earshot with missed, and press w on one. Save a recording (R).";
        all.push(alarm(counted(missed, "delta was missed", "deltas were missed"), text));
    }
    for a in s.alarms.values() {
        let times = if a.count > 1 { format!(", {} times", a.count) } else { String::new() };
        all.push(alarm(format!("{}: {} {}{times}", a.instance, a.kind, a.about), a.text.clone()));
    }
    for p in &s.places {
        if let Link::Down(since, why) = &p.link {
            let text = format!("{why}. It is tried again by itself; i starts an instance of this process.");
            all.push(alarm(format!("{} out of touch for {}", p.name, span(s.now - since)), text));
        }
    }
    let picture = picture(s);
    for n in &picture.nodes {
        let down = s.places.iter().any(|p| p.name == n.name && matches!(p.link, Link::Down(..)));
        // For a moment an instance may be behind at any time.
        let passing = n.connected && n.away.is_none() && n.behind_ms < 1_000;
        if let Some(trouble) = n.trouble().filter(|_| !down && !passing) {
            let text = "Relay (5) shows where it waits. Clients there are told that their results are old, and go on when it is current.";
            all.push(alarm(format!("{} is {trouble}", n.name), text));
        }
    }
    if picture.differ() {
        let text =
            "Their rules have different hashes: bring the same configuration to all, and restart those that lack it.";
        all.push(alarm("instances have different rules", text));
    }
    for w in s.watchers.iter().filter_map(|w| Some((w, w.refused.as_ref()?))) {
        let text = format!("{}. It asks again by itself; d drops it, n adds another.", w.1);
        all.push(alarm(format!("{}'s query is refused", w.0.persona), text));
    }
    all
}
