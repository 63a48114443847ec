//! The Relay view of a cluster over a real broker: an instance is cut off and comes back, another one goes politely, and
//! the drawing is written.

use testbed::{Broker, Kind, Tmux};

#[test]
fn an_instance_is_cut_off_healed_and_drained_in_sight() {
    let broker = Broker::start(Kind::Redis);
    let dir = tempfile::tempdir().unwrap();
    let (at, gossip) = (dir.path().display(), env!("CARGO_BIN_EXE_gossip"));
    let t = Tmux::start(160, 47, &format!("cd {at} && {gossip} demo --pace 5 --relay {}", broker.url()));
    t.wait("two instances", |s| s.contains("2 instances · reader"));
    t.key("5");
    let current = |s: &str| s.matches("  current").count() + s.matches(" current ").count();
    let s = t.wait("how changes travel", |s| {
        let whole = s.contains("rows.harbour") && s.contains("topic.") && s.contains("reads the source");
        s.contains("redis ─") && current(s) >= 2 && whole
    });
    let reader = if s.contains("north reads") { "north" } else { "south" };
    // The one that does not read is cut off; what it lacks comes when that is mended.
    t.key("i");
    t.wait_text("Instances of this process");
    if reader == "north" {
        t.key("Down");
        t.wait("the other one is chosen", |s| s.lines().any(|l| l.contains("▸ south")));
    }
    t.key("c");
    t.wait_text("is cut off from the relay");
    t.key("Escape");
    let cut = |s: &str| s.lines().any(|l| l.contains("✗") && l.contains("cut off from the relay"));
    let rail = |s: &str| s.lines().any(|l| l.contains("5  Relay") && l.contains('▴'));
    t.wait("it says so, and the rail that something is to be mended", |s| {
        cut(s) && rail(s) && !s.contains("Instances of")
    });
    t.key("i");
    t.wait_text("Instances of this process");
    if reader == "north" {
        t.key("Down");
        t.wait("the other one is chosen", |s| s.lines().any(|l| l.contains("▸ south")));
    }
    t.key("c");
    t.wait_text("is back on the relay");
    t.key("Escape");
    t.wait("it has healed", |s| !cut(s) && current(s) >= 2 && !s.contains("behind by"));
    // One more comes; then the reader goes politely, and another one reads on.
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("a");
    t.wait_text("added-1 runs as well");
    t.key("Escape");
    t.wait("it is drawn as well", |s| s.contains("3 instances · reader") && s.contains("added-1") && current(s) >= 3);
    t.key("i");
    t.wait_text("Instances of this process");
    if reader == "south" {
        t.key("Down");
        t.wait("the reader is chosen", |s| s.lines().any(|l| l.contains("▸ south")));
    }
    t.key("d");
    t.wait_text("has been drained");
    t.key("Escape");
    let other = if reader == "north" { "south" } else { "north" };
    t.wait("another one reads", |s| s.contains(&format!("{other} reads")) || s.contains("added-1 reads"));
    t.key("Space");
    t.wait_text("paused, ");
    t.key("x");
    t.wait_text("written: gossip-relay");
    for (ending, begin) in [("svg", "<svg"), ("pdf", "%PDF-1.7"), ("txt", "harbour: read by")] {
        let bytes = std::fs::read(dir.path().join(format!("gossip-relay.{ending}"))).unwrap();
        assert!(String::from_utf8_lossy(&bytes).contains(begin), "{ending}");
    }
    t.key("q");
    t.wait_text("[exit 0]");
}
