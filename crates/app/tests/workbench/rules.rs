//! A rule is changed, after what it would have meant was seen.

use testbed::Tmux;

const CONFIG: &str = "\
[instance]
listen = '127.0.0.1:0'
[source.harvest]
url = 'sqlite:harvest.db'
tables = ['crates', 'crews']

# Everybody sees the own orchard.
[[rule]]
role = 'reader'
table = 'crates'
may = ['read']
rows = 'orchard = claim.orchard'   # as agreed
[persona.Ada]
roles = ['reader']
claims = { orchard = 1 }
[persona.Ben]
roles = ['picker']
[[watcher]]
persona = 'Ada'
query = 'SELECT * FROM crates'
[[watcher]]
persona = 'Ben'
query = 'SELECT * FROM crates'
";

#[test]
fn a_rule_is_edited_tried_on_what_happened_and_saved() {
    let dir = tempfile::tempdir().unwrap();
    let db = dir.path().join("harvest.db");
    let write = |sql: &str| assert!(testbed::sqlite3(&db, sql).0.wait().unwrap().success());
    write(
        "CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, fruit TEXT);
         CREATE TABLE crews (id INTEGER PRIMARY KEY, member TEXT, orchard INTEGER);
         INSERT INTO crews VALUES (1, 'Ben', 2);
         INSERT INTO crates VALUES ('A-1', 1, 'pear'), ('B-1', 2, 'plum');",
    );
    let config = dir.path().join("gossip.toml");
    std::fs::write(&config, CONFIG).unwrap();
    let gossip = env!("CARGO_BIN_EXE_gossip");
    let prepared = std::process::Command::new(gossip).arg("prepare").current_dir(dir.path()).output().unwrap();
    assert!(prepared.status.success());
    let t = Tmux::start(160, 47, &format!("cd {} && {gossip} open", dir.path().display()));
    t.wait("Ada listens, Ben is refused", |s| s.lines().nth(5).is_some_and(|l| l.contains("one")));
    write("UPDATE crates SET fruit = 'quince' WHERE number = 'B-1'");
    t.wait("it is withheld from Ada", |s| s.lines().any(|l| l.contains("plum → quince") && l.contains('◆')));

    // What does not fit is told while it is typed, and nothing of it can be saved.
    t.key("4");
    t.wait("the rules as they are", |s| s.contains("▸ ▤ some rows") && s.contains("orchard = claim.orchard"));
    t.key("e");
    t.wait_text("leave the text");
    t.key("BSpace");
    t.type_text(" OR orhcard = 2\"");
    t.wait("the mistake, with what may be meant", |s| {
        s.contains("does not fit yet") && s.contains("orhcard is not known")
    });
    for _ in 0.."orhcard = 2\"".len() {
        t.key("BSpace");
    }
    t.type_text("orchard = 2\"");
    let told =
        |l: &str| l.contains("Ada") && l.contains("plum → quince") && l.contains("withheld by rule → heard: replaced");
    t.wait("what Ada would have heard", |s| {
        let counted = s.contains("would have heard 1 more");
        counted && s.lines().any(told) && s.contains("needs   claim.orchard") && s.contains("covers  Ada")
    });
    assert_eq!(std::fs::read_to_string(&config).unwrap(), CONFIG, "nothing is saved yet");
    // What is edited is not left behind by walking away from it.
    t.key("Escape");
    t.wait_text("u undo");
    t.key("Down");
    t.wait_text("s saves it, u reverts it");
    // Somebody else has written the file meanwhile: nothing is written over, and the text stays.
    std::fs::write(&config, CONFIG.replace("orchard = claim.orchard", "orchard = 7")).unwrap();
    t.key("s");
    t.wait("it is refused", |s| s.contains("not saved") && s.contains("edited, not saved"));
    std::fs::write(&config, CONFIG).unwrap();
    t.key("s");
    t.wait_text("kept in");
    let saved = std::fs::read_to_string(&config).unwrap();
    let expected = CONFIG.replace("'orchard = claim.orchard'", "\"orchard = claim.orchard OR orchard = 2\"");
    assert_eq!(saved, expected, "and nothing else is touched");

    t.key("1");
    write("UPDATE crates SET fruit = 'medlar' WHERE number = 'B-1'");
    t.wait("now she hears it", |s| s.lines().any(|l| l.contains("quince → medlar") && l.contains('●')));

    // A rule for a role that has none, which asks another table that nobody has asked yet.
    t.key("4");
    t.key("Right");
    t.wait_text("picker on crates");
    t.key("e");
    t.wait_text("leave the text");
    t.key("Enter");
    t.type_text("rows = \"orchard IN (SELECT orchard FROM crews WHERE member = claim.sub)\"");
    t.wait("Ben would hear both, as he is on a crew", |s| {
        s.contains("refused now; would have heard 2 more")
            && s.contains("needs   claim.sub")
            && s.contains("covers  Ben")
    });
    t.key("Escape");
    t.wait_text("s save");
    t.key("s");
    t.wait_text("kept in");
    t.key("1");
    // He asks again by himself.
    t.wait("Ben is let in, who only waited", |s| {
        s.contains("who heard what") && s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2)
    });
    write("UPDATE crates SET fruit = 'sorb' WHERE number = 'B-1'");
    t.wait("both hear it", |s| s.lines().any(|l| l.contains("medlar → sorb") && l.matches('●').count() == 2));
    t.key("q");
    t.wait_text("[exit 0]");
    let config = gossip_server::config::Config::read(&config).unwrap();
    assert_eq!(config.rules.iter().map(|r| r.role.as_str()).collect::<Vec<_>>(), ["reader", "picker"]);
}
