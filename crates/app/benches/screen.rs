//! What a flood of changes costs the screen: 10,000 changes a second, each with five watchers' verdicts and two frames,
//! taken in and drawn in memory thirty times a second, beside drawing alone.
//!
//! `cargo bench --bench screen` (a number after `--` sets the seconds; 300 for the figure in the documents).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::time::{Duration, Instant};

use gossip::personas::Persona;
use gossip::workbench::Access;
use gossip::workbench::Place;
use gossip::workbench::message::Message;
use gossip::workbench::state::State;
use gossip::workbench::theme::Theme;
use gossip::workbench::update::update;
use gossip::workbench::view::view;
use gossip::workbench::watchers::add_watcher;
use gossip_protocol::system::SystemRow;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use serde_json::{Value as Json, json};

const PER_SECOND: u64 = 10_000;
const FRAMES: u64 = 30;
const WATCHERS: u32 = 5;

fn row<R: SystemRow>(v: Json) -> Box<R> {
    Box::new(R::read(v.as_object().unwrap()).unwrap())
}

/// Bytes of memory in use, as the system counts them.
fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    text.split_whitespace().nth(1).and_then(|pages| pages.parse::<u64>().ok()).unwrap_or(0) * 4096
}

fn messages(n: u64) -> Vec<Message> {
    let at = 10_000_000 + n as i64 * 100;
    let changes = json!([{"table": "calls", "key": [n % 500], "old": {"id": n % 500, "status": "expected", "eta": "2031"},
        "new": {"id": n % 500, "status": "inbound", "eta": "2031"}}]);
    let mut all = vec![Message::Change(
        0,
        row(json!({"position": format!("h:{n}"), "after": format!("h:{}", n - 1), "committed_from": at - 5,
            "committed_to": at, "read_at": at + 1, "received_at": at + 2, "reader": "north", "rows": 1,
            "changes": changes.to_string()})),
    )];
    for w in 1..=WATCHERS {
        let heard = w <= 2;
        let word = if heard { "matched" } else { "withheld" };
        let cursor = if heard { format!("c{n}") } else { String::new() };
        all.push(Message::Verdict(row(
            json!({"position": format!("h:{n}"), "label": format!("x-{w}"), "verdict": word,
            "replaced": u8::from(heard), "at": at + 3, "cursor": cursor, "subscription": w}),
        )));
        if heard {
            let frame = format!("{{\"n\":{n}}}").into();
            all.push(Message::Delta { watcher: w, at: at + 4, cursor: format!("c{n}"), frame, rows: 500 });
        }
    }
    all
}

fn percentile(times: &mut [Duration], p: f64) -> f64 {
    times.sort_unstable();
    times[((times.len() - 1) as f64 * p) as usize].as_secs_f64() * 1e3
}

fn main() {
    let seconds: u64 = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(20);
    let place = Place { name: "north".into(), url: "127.0.0.1:1".into() };
    let mut access = Access { places: vec![place], ..Access::default() };
    access.personas.insert("Imre".into(), Persona::default());
    let mut s = State::new(&access, Theme::dark(), 10_000_000);
    for w in 1..=WATCHERS {
        add_watcher(&mut s, "Imre", "SELECT * FROM calls", 0);
        update(&mut s, Message::Listening(w, 1, 500));
    }
    let mut terminal = Terminal::new(TestBackend::new(160, 47)).unwrap();
    let (mut whole, mut drawing, mut memory) = (vec![], vec![], vec![]);
    let mut n = 1;
    for second in 0..seconds {
        for frame in 0..FRAMES {
            let burst: Vec<Message> = (0..PER_SECOND / FRAMES).flat_map(|i| messages(n + i)).collect();
            n += PER_SECOND / FRAMES;
            let begun = Instant::now();
            burst.into_iter().for_each(|m| drop(update(&mut s, m)));
            // Four times a second, as in the program.
            if frame % (FRAMES / 4) == 0 {
                update(&mut s, Message::Tick(10_000_000 + n as i64 * 100));
            }
            let taken = Instant::now();
            terminal.draw(|f| view(&mut s, f)).unwrap();
            drawing.push(taken.elapsed());
            whole.push(begun.elapsed());
        }
        if second % (seconds / 10).max(1) == 0 {
            memory.push(resident() >> 20);
        }
    }
    println!(
        "{PER_SECOND} changes a second for {seconds} s, {WATCHERS} watchers; ms a frame of which there are {FRAMES} a second"
    );
    println!("{:<28} {:>8} {:>8} {:>8}", "", "p50", "p99", "max");
    for (name, times) in [("taking in and drawing", &mut whole), ("drawing alone", &mut drawing)] {
        println!(
            "{name:<28} {:>8.2} {:>8.2} {:>8.2}",
            percentile(times, 0.5),
            percentile(times, 0.99),
            percentile(times, 1.0)
        );
    }
    println!("memory over time, MiB: {memory:?}");
}
