//! `gossip expect`, from outside: the shipped expectations hold, and what does not hold is told with its reason.
#![allow(clippy::unwrap_used)]

use std::path::Path;

fn expect(dir: &Path, file: &str) -> (Option<i32>, String, String) {
    let out = testbed::run(Path::new(env!("CARGO_BIN_EXE_gossip")), &["expect", file], dir, &[]);
    let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
    (out.status.code(), text(&out.stdout), text(&out.stderr))
}

fn demo() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"))
}

#[test]
fn the_shipped_expectations_hold() {
    let (code, out, err) = expect(demo(), "expectations.toml");
    assert_eq!((code, err.as_str()), (Some(0), ""), "{out}");
    assert!(out.contains("holds  a pilot keeps what is his own") && out.ends_with("4 of 4 hold\n"), "{out}");
}

#[test]
fn a_broken_rule_is_told_with_persona_change_rule_and_values() {
    let dir = tempfile::tempdir().unwrap();
    for file in ["gossip.toml", "harbour.sql", "expectations.toml"] {
        let text = std::fs::read_to_string(demo().join(file)).unwrap();
        // Agents see what is not theirs.
        let text = text.replace("rows = \"agency = claim.agency\"", "rows = \"agency <> claim.agency\"");
        std::fs::write(dir.path().join(file), text).unwrap();
    }
    let (code, out, err) = expect(dir.path(), "expectations.toml");
    assert_eq!(code, Some(1), "{out}{err}");
    for words in [
        "FAILS  a call that is handed to another agency leaves the first one",
        "UPDATE calls SET agency = 'Northlight' WHERE id = 901",
        "Tove  heard add [901]",
        "expected remove [901]",
        "agent on calls:  agency <> claim.agency",
        "'Northlight' <> 'Brightwater'",
    ] {
        assert!(out.contains(words), "{words}: {out}");
    }
    assert!(err.contains("of 4 do not hold"), "{err}");
}

#[test]
fn what_cannot_be_read_is_told_with_its_place() {
    let dir = tempfile::tempdir().unwrap();
    let write = |text: &str| std::fs::write(dir.path().join("e.toml"), text).unwrap();
    let head = format!(
        "config = '{}'\nschema = ['{}']\n",
        demo().join("gossip.toml").display(),
        demo().join("harbour.sql").display()
    );
    let listen = "[listen]\nTove = { query = \"SELECT * FROM calls\" }\n";
    for (text, words) in [
        (format!("{head}[listen]\nTove = {{ quer = '' }}\n"), "e.toml:4: unknown field `quer`"),
        (
            format!("{head}{listen}[[expect]]\nname = 'x'\nchange = ''\nsilent = ['Eve']\n"),
            "nobody listens as Eve; known: Tove",
        ),
        (
            format!("{head}[listen]\nEve = {{ query = 'SELECT 1' }}\n[[expect]]\nname = 'x'\nchange = ''\n"),
            "there is no [persona.Eve]",
        ),
        (
            format!("{head}{listen}[[expect]]\nname = 'x'\nchange = 'UPDATE absent SET a = 1'\n"),
            "no such table: absent",
        ),
        (format!("{head}start = 'INSERT'\n{listen}[[expect]]\nname = 'x'\nchange = ''\n"), "start: "),
    ] {
        write(&text);
        let (code, out, err) = expect(dir.path(), "e.toml");
        assert_eq!(code, Some(2), "{out}{err}");
        assert!(err.contains(words), "{words}: {err}");
    }
}
