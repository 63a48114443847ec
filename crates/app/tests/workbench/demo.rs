//! The demo, driven by keys.

use testbed::Tmux;

fn demo(pace: &str) -> Tmux {
    let t = Tmux::start(160, 47, &format!("{} demo --pace {pace}", env!("CARGO_BIN_EXE_gossip")));
    // The newest line is one that all watchers were listening to.
    t.wait("changes that were heard", |s| {
        let newest = s.lines().nth(7).unwrap_or_default();
        s.contains("2 instances · reader")
            && newest.contains("calls")
            && newest.contains('●')
            && !newest.contains(['?', '∅'])
    });
    t
}

/// A change that was made here is heard. It stays in sight whatever else comes; read at once with another commit, the
/// line may begin with that one's row.
fn is_in_the_stream(t: &Tmux) {
    t.key("/");
    t.type_text("yours");
    t.key("Enter");
    t.wait("it is in the stream", |s| s.contains("with “yours”") && s.lines().any(|l| l.contains("(yours)")));
}

#[test]
fn a_session_with_the_demo() {
    let t = demo("5");
    // Hold, choose, ask why.
    t.key("/");
    t.type_text("calls");
    t.key("Enter");
    t.wait_text("with “calls”");
    t.key("Space");
    t.wait_text("paused");
    t.key("Tab");
    t.key("w");
    t.wait("an explanation", |s| s.contains("✓ stream") && s.contains("why Tove"));
    t.key("Escape");
    t.key("Space");
    t.key("Escape");
    t.wait("no filter", |s| !s.contains("with “calls”"));

    // Filter.
    t.key("/");
    t.type_text("withheld");
    t.key("Enter");
    t.wait_text("with “withheld”");
    t.key("Escape");
    t.wait("no filter", |s| !s.contains("with “withheld”"));

    // A new watcher hears.
    t.key("n");
    t.wait_text("New watcher");
    t.key("Right");
    t.key("Tab");
    t.key("C-u");
    t.type_text("SELECT * FROM berths WHERE state = 'free'");
    t.key("Enter");
    t.wait("a sixth column", |s| s.lines().nth(3).is_some_and(|l| l.matches("Imre").count() == 2));

    // One whose query is refused says so.
    t.key("n");
    t.wait_text("New watcher");
    t.key("Tab");
    t.key("C-u");
    t.type_text("SELECT * FROM nothing WHERE 1 = 1");
    t.key("Enter");
    t.wait_text("refused");
    t.key("d");
    t.wait("it is gone", |s| !s.contains("refused"));

    // A change that is heard.
    t.key("m");
    t.wait_text("Make a change");
    t.key("Left");
    t.key("Tab");
    t.key("C-u");
    t.type_text("UPDATE berths SET quay = 'Here' WHERE id = 3");
    t.key("Enter");
    is_in_the_stream(&t);
    t.key("Escape");
    t.wait("no filter", |s| !s.contains("with “yours”"));

    // One that nobody can hear, and one that fails.
    for (sql, words) in [
        ("INSERT INTO dues (vessel, amount) VALUES ('Ardent Tern', 12)", "never comes: 1 row of dues changed"),
        ("UPDATE calls SET nothing = 1", "never comes: rolled back"),
    ] {
        t.key("m");
        t.wait_text("Make a change");
        t.key("Left");
        t.key("Tab");
        t.key("C-u");
        t.type_text(sql);
        t.key("Enter");
        t.wait_text(words);
    }

    // All frames, both ways, searched.
    t.key("F");
    t.wait("both directions", |s| s.contains("→ sent") && s.contains("← received"));
    t.key("/");
    t.type_text("subscribe");
    t.key("Enter");
    t.wait("the call that was found, on several lines", |s| {
        s.contains("with “subscribe”") && s.contains("\"method\": \"subscribe\"")
    });
    t.key("y");
    t.wait_text("copied:");
    t.key("Escape");

    // The journey, with a frame.
    t.key("Down");
    t.key("Down");
    t.key("Down");
    t.key("Enter");
    t.wait_text("relayed to");
    t.key("f");
    t.wait("a frame or the word that there is none", |s| s.contains("frame to") || s.contains("received no frame"));
    t.key("Escape");
    t.wait_text("who heard what");
    t.key("?");
    t.wait_text("Keys and marks");
    t.key("Escape");

    // Sizes.
    t.resize(100, 30);
    t.wait("the small layout", |s| s.contains("what changed") && !s.contains("1  Earshot"));
    t.resize(70, 20);
    t.wait_text("make it larger");
    t.resize(160, 47);
    t.wait_text("1  Earshot");
    t.key("q");
    t.wait_text("[exit 0]");
}

#[test]
fn a_query_is_asked_as_several_people_and_a_table_is_let_stream() {
    let t = demo("5");
    t.key("2");
    t.wait_text("what several people see");
    t.type_text("SELECT * FROM calls WHERE agency = :agency");
    t.key("Enter");
    // One of the three has the claim; the others are told what is missing, below its place.
    t.wait("one result and the reason for none", |s| {
        s.contains("Oyelaran  agent") && s.contains("rows") && s.contains("▴ ")
    });
    t.key("Escape");
    t.key("a");
    t.wait_text("Run as");
    t.key("Space");
    t.key("Down");
    t.key("Space");
    for _ in 0..3 {
        t.key("Down");
    }
    t.key("Space");
    t.key("Enter");
    t.wait("two agencies side by side", |s| {
        s.contains("Tove") && !s.contains("Imre") && s.contains("agency = 'Brightwater'")
    });
    t.wait("its feed and its cost", |s| s.contains("µs per change"));
    t.key("k");
    t.wait_text("Save the query");
    t.type_text("my_calls");
    t.key("Enter");
    t.wait_text("saved as query.my_calls");

    t.key("3");
    t.wait_text("dues");
    t.key("Down");
    t.key("Down");
    t.wait_text("It does not stream");
    t.key("s");
    t.wait_text("Stream dues");
    t.key("Enter");
    t.wait_text("dues streams");
    t.wait("it does", |s| s.lines().any(|l| l.contains("dues") && l.contains("● yes")));
    // A change on it is heard of now.
    t.key("m");
    t.wait_text("Make a change");
    t.key("Left");
    t.key("Tab");
    t.key("C-u");
    t.type_text("INSERT INTO dues (vessel, amount) VALUES ('Ardent Tern', 12)");
    t.key("Enter");
    t.key("1");
    is_in_the_stream(&t);
    t.key("3");
    t.key("s");
    t.wait_text("Stop streaming dues");
    t.key("Enter");
    t.wait_text("dues no longer streams");
    t.wait("it does not", |s| s.lines().any(|l| l.contains("dues") && l.contains("· no")));
    t.key("q");
    t.wait_text("[exit 0]");
}

#[test]
fn an_instance_ends_and_comes_back() {
    let t = demo("5");
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("Down");
    t.key("e");
    t.wait_text("south has been ended");
    t.key("Escape");
    t.wait("south's watchers say so, north's still hear", |s| s.contains("1 of 2 instances") && s.contains("∅ "));
    t.wait("changes while it is away", |s| s.lines().any(|l| l.contains('●') && l.contains('∅')));
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("Down");
    t.key("e");
    t.wait_text("south runs again");
    t.key("Escape");
    t.wait("all are back", |s| {
        s.contains("2 instances · reader") && s.lines().nth(5).is_some_and(|l| l.matches("south").count() == 3)
    });
    t.wait("and hear", |s| s.lines().nth(7).is_some_and(|l| !l.contains('∅') && !l.contains('?')));

    // A lost message is noticed and healed; nobody misses anything.
    t.key("i");
    t.key("l");
    t.wait_text("will be lost");
    t.key("Escape");
    t.wait("the line after it", |s| !s.contains("will be lost"));
    let screen = t.screen();
    assert!(!screen.lines().any(|l| l.contains("✖ missed") && l.contains("calls")), "{screen}");
    t.key("q");
    t.wait_text("[exit 0]");
}

/// What was seen in the workbench becomes expectations, which hold as long as the rules do.
#[test]
fn what_was_recorded_becomes_expectations() {
    let dir = tempfile::tempdir().unwrap();
    let gossip = env!("CARGO_BIN_EXE_gossip");
    let t = Tmux::start(160, 47, &format!("cd {} && {gossip} demo --pace 5", dir.path().display()));
    t.wait("several changes that were heard, and not", |s| s.matches('●').count() > 12 && s.matches('◆').count() > 12);
    t.key("R");
    t.wait_text("Save a recording");
    t.key("Enter");
    t.wait_text("recorded:");
    t.key("q");
    t.wait_text("[exit 0]");

    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/gossip.toml");
    let expect = |args: &[&str]| {
        let out = testbed::run(std::path::Path::new(gossip), &[&["expect"], args].concat(), dir.path(), &[]);
        let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
        (out.status.code(), text(&out.stdout), text(&out.stderr))
    };
    let made = ["--from-recording", "gossip-recording.jsonl", "-o", "seen.toml", "--config"];
    let (code, out, err) = expect(&[&made[..], &[demo]].concat());
    assert_eq!(code, Some(0), "{out}{err}");
    assert!(out.contains(" steps, 5 listeners"), "{out}");
    let (code, _, err) = expect(&[&made[..], &[demo]].concat());
    assert!(code == Some(2) && err.contains("seen.toml: "), "nothing is written over: {err}");
    let (code, out, err) = expect(&["seen.toml"]);
    assert_eq!(code, Some(0), "{out}{err}");

    // With another rule it is told what is not heard any more.
    let rules = std::fs::read_to_string(demo).unwrap().replace("agency = claim.agency", "agency <> claim.agency");
    std::fs::write(dir.path().join("gossip.toml"), rules).unwrap();
    let seen = std::fs::read_to_string(dir.path().join("seen.toml")).unwrap();
    let config = seen.lines().find(|l| l.starts_with("config = ")).unwrap().to_string();
    std::fs::write(dir.path().join("other.toml"), seen.replace(&config, "config = 'gossip.toml'")).unwrap();
    let (code, out, _) = expect(&["other.toml"]);
    assert!(code == Some(1) && out.contains("FAILS") && out.contains("agency <> claim.agency"), "{out}");
}
