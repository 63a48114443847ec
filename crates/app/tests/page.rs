//! The demo's page in a browser: two people, on PostgreSQL, while an instance is killed from the workbench.
#![allow(clippy::unwrap_used)]

use std::path::Path;

use testbed::browser::Browser;
use testbed::{Postgres, Tmux, free_port, run};

const GOSSIP: &str = env!("CARGO_BIN_EXE_gossip");

/// What both people see, with the first one's part and the second one's.
const PARTS: &str = "const [left, right] = document.querySelectorAll('.person');";

fn wait(page: &Browser, what: &str, expression: &str) {
    page.wait(what, &format!("(() => {{ {PARTS} return {expression}; }})()"));
}

/// A picture for the manual, where one is wanted.
fn picture(page: &Browser, name: &str) {
    if let Some(dir) = std::env::var_os("GOSSIP_PICTURES") {
        page.picture(&Path::new(&dir).join(name));
    }
}

#[test]
fn two_people_share_a_page_whatever_happens_to_its_instances() {
    testbed::require("psql", "postgresql-client");
    let (server, port, dir) = (Postgres::start(), free_port(), tempfile::tempdir().unwrap());
    let psql = |sql: &str| {
        let sql = format!("SET search_path = gossip_demo; {sql}");
        let o = run(Path::new("psql"), &["-v", "ON_ERROR_STOP=1", "-c", &sql, &server.url()], dir.path(), &[]);
        assert!(o.status.success(), "{sql}: {}", String::from_utf8_lossy(&o.stderr));
    };
    // Nothing moves by itself for as long as this takes.
    let t = Tmux::start(
        160,
        47,
        &format!("GOSSIP_LOG=off {GOSSIP} demo --pace 0.05 --page {port} --source {}", server.url()),
    );
    t.wait_text(&format!("http://127.0.0.1:{port}/"));
    t.wait_text("2 instances");
    let page = Browser::open(&format!("http://127.0.0.1:{port}/?who=Imre&who=Tove"), (1280, 800));
    wait(
        &page,
        "both to be connected",
        "[left, right].every((p) => p?.querySelector('.state')?.dataset.status === 'open')",
    );
    wait(&page, "a window of six", "left.querySelectorAll('.arrivals tr').length === 6");
    wait(
        &page,
        "each to see the other",
        "left.querySelector('.present').innerText.includes('Tove') && right.querySelector('.present').innerText.includes('Imre')",
    );
    wait(
        &page,
        "the radio to be refused",
        "right.querySelector('.radio .refused').textContent.startsWith('not for Tove: table vhf')",
    );

    // A change by psql: into the window, first for both, then for one of them.
    psql("INSERT INTO vessels (id, name, kind, length_m, agency) VALUES (900, 'Night Heron', 'coaster', 60, 'Brightwater');
          INSERT INTO calls (id, vessel, agency, status, eta) VALUES (900, 'Night Heron', 'Brightwater', 'expected', '2031-01-01T00:00:00Z')");
    let first = "querySelector('.arrivals tr')?.textContent.includes('Night Heron')";
    wait(&page, "a row in front for both", &format!("left.{first} && right.{first}"));
    psql("UPDATE calls SET agency = 'Northlight' WHERE id = 900");
    wait(&page, "it to leave one of them", &format!("left.{first} && !right.{first}"));
    psql("UPDATE calls SET status = 'berthed' WHERE id = 900");
    wait(
        &page,
        "a count",
        "[...left.querySelectorAll('.statuses tr')].some((tr) => tr.textContent.startsWith('berthed'))",
    );
    // A fragment that the application draws anew when told that something has changed.
    psql("UPDATE berths SET state = 'occupied' WHERE name IN ('Kiln 1', 'Oil Dolphin')");
    wait(
        &page,
        "ships in two berths",
        "[left, right].every((p) => p.querySelectorAll('.berth.occupied path').length === 2)",
    );

    // What one draws, the other sees; what one says is a text, whatever it says.
    let at = |i: i32| (90.0 + 6.0 * f64::from(i), 270.0 + 22.0 * (f64::from(i) / 9.0).sin());
    page.drag(&(0..60).map(at).collect::<Vec<_>>());
    wait(
        &page,
        "a line on both charts",
        "[left, right].every((p) => p.querySelector('.stroke')?.getAttribute('points').length > 10)",
    );
    let say = |text: &str| {
        let field = "document.querySelector('.radio input')";
        page.evaluate(&format!("{field}.value = '{text}'; {field}.form.requestSubmit()"));
        let said = format!("left.querySelector('.said').textContent.includes('Imre: {text}')");
        wait(&page, "what was said", &format!("{said} && !{field}.value && !document.querySelector('.said img')"));
    };
    say("outer mark, inbound");
    picture(&page, "page.png");
    say("<img src=x>");

    // Its instance is killed: both go on at the other one, and hear what happens meanwhile.
    t.key("i");
    t.wait_text("lose next change");
    t.key("e");
    t.wait_text("has been ended");
    psql("UPDATE calls SET agency = 'Brightwater', status = 'expected' WHERE id = 900");
    wait(
        &page,
        "the other instance",
        "[left, right].every((p) => p.querySelector('.state').textContent.startsWith('south'))",
    );
    wait(&page, "what happened meanwhile", &format!("left.{first} && right.{first}"));
    wait(
        &page,
        "renewed tokens",
        "[left, right].every((p) => /token [2-9]/.test(p.querySelector('.state').textContent))",
    );
    // Other eyes in the same place: the board has no token, and may not draw.
    page.evaluate("const s = document.querySelectorAll('select')[1]; s.value = 'Board'; s.onchange()");
    wait(
        &page,
        "the board's window",
        "right.querySelectorAll('.arrivals tr').length === 6 && right.querySelector('.statuses .refused').textContent",
    );
    page.drag(&(0..20).map(|i| (720.0 + 5.0 * f64::from(i), 270.0)).collect::<Vec<_>>());
    wait(&page, "drawing to be refused", "right.querySelector('.of-chart').textContent.startsWith('not for Board')");
    wait(&page, "somebody to be gone", "!left.querySelector('.present').innerText.includes('Tove')");
    t.key("Escape");
    t.key("q");
}
