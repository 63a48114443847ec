//! A report of several pages: what was found, who heard what, the journey of one transaction, charts, who came and went.

use gossip_draw::{Colour, Drawing, fit};
use gossip_protocol::system::InstanceRow;

use super::findings::{Finding, Findings};
use crate::charts;
use crate::recording::Event;
use crate::workbench::export;
use crate::workbench::page::Report;
use crate::workbench::state::State;
use crate::workbench::words::{counted, span, time};

const INK: Colour = [34, 38, 44];
const GREY: Colour = [122, 128, 136];
const FAINT: Colour = [222, 224, 226];
const MARGIN: f32 = 40.0;

/// Size of a report's text, and the height of a line of it.
const SIZE: f32 = 8.5;
const STEP: f32 = 13.0;

/// Pages of findings, at most; what is left over is counted.
const PAGES: usize = 6;

/// Seconds that the charts show at most: all that there is.
const SECONDS: i64 = charts::series::SECONDS as i64;

/// The report of what a workbench shows, and of these events.
pub fn report(s: &State, events: &[Event]) -> Report {
    let (found, left_out) = Findings::of(events);
    let instances = Findings::instances(events);
    let title = if s.title.is_empty() { "Gossip".to_string() } else { s.title.clone() };
    let mut pages = findings(&title, events, &instances, &found, left_out);
    let mut text = in_words(&title, &instances, &found);
    let earshot = export::earshot(s);
    text += &format!("\n\n{}", earshot.text);
    pages.push(earshot.drawing);
    if let Some(line) = s.chosen_line() {
        let journey = export::journey(s, line);
        text += &format!("\n\n{}", journey.text);
        pages.push(journey.drawing);
    }
    if s.charts.series.ends().is_some() {
        pages.push(charts::page::page(&s.charts.series, SECONDS, "Over time"));
        text += &format!("\n\n{}", charts::page::words(&s.charts.series, SECONDS, "Over time"));
    }
    pages.extend(comings(s));
    let count = pages.len();
    for (i, page) in pages.iter_mut().enumerate() {
        let foot = (page.size.0 - MARGIN - 60.0, page.size.1 - 24.0);
        page.text(foot, 7.0, false, GREY, format!("page {} of {count}", i + 1));
    }
    Report { name: "gossip-report".into(), title: format!("Report: {title}"), pages, text }
}

/// Lines of text on as many pages as they need.
struct Writer {
    title: String,
    below: String,
    pages: Vec<Drawing>,
    y: f32,
}

impl Writer {
    fn new(title: &str, below: String) -> Writer {
        let mut w = Writer { title: title.into(), below, pages: Vec::new(), y: 0.0 };
        w.turn();
        w
    }

    fn turn(&mut self) {
        let mut d = Drawing::landscape(self.title.clone());
        let width = d.size.0 - 2.0 * MARGIN;
        d.text((MARGIN, 48.0), 13.0, true, INK, fit(&self.title, 13.0, width));
        d.text((MARGIN, 64.0), 8.0, false, GREY, fit(&self.below, 8.0, width));
        d.text((MARGIN, d.size.1 - 24.0), 7.0, false, GREY, "Gossip");
        self.pages.push(d);
        self.y = 90.0;
    }

    /// Makes room for so many lines, on the next page if there is not enough on this one.
    fn need(&mut self, lines: usize) {
        if self.y + lines as f32 * STEP > 595.0 - 44.0 {
            self.turn();
        }
    }

    fn line(&mut self, indent: f32, bold: bool, colour: Colour, text: &str) {
        self.need(1);
        let (y, room) = (self.y, 842.0 - 2.0 * MARGIN - indent);
        if let Some(page) = self.pages.last_mut() {
            page.text((MARGIN + indent, y), SIZE, bold, colour, fit(text, SIZE, room));
        }
        self.y += STEP;
    }

    fn heading(&mut self, text: &str) {
        self.need(3);
        self.y += STEP * 0.5;
        self.line(0.0, true, INK, text);
        let y = self.y - STEP + 4.0;
        if let Some(page) = self.pages.last_mut() {
            page.line((MARGIN, y), (842.0 - MARGIN, y), 0.5, FAINT);
        }
        self.y += 2.0;
    }
}

fn findings(
    title: &str,
    events: &[Event],
    instances: &[InstanceRow],
    found: &[Finding],
    left_out: usize,
) -> Vec<Drawing> {
    let ends = events.iter().map(|e| e.at).min().zip(events.iter().map(|e| e.at).max());
    let over = ends.map_or(String::new(), |(from, to)| {
        format!("{} to {}, {}", time(from), time(to), span(to.saturating_sub(from)))
    });
    let mut w =
        Writer::new(&format!("Report: {title}"), format!("{over}; {}", counted(events.len(), "event", "events")));
    w.heading("Instances at the end");
    for i in instances {
        let reads = if i.reads { ", reads the source" } else { "" };
        let behind = if i.behind_ms > 0 { format!(", behind by {} ms", i.behind_ms) } else { String::new() };
        let text = format!("{:<14} {:<22} release {}, rules {}{reads}{behind}", i.name, i.address, i.version, i.rules);
        w.line(0.0, false, INK, &text);
    }
    if instances.is_empty() {
        w.line(0.0, false, GREY, "None was told of.");
    }
    w.heading(&match found.len() {
        0 => "Nothing was found".to_string(),
        n => format!("{} found", counted(n, "thing was", "things were")),
    });
    for (i, f) in found.iter().enumerate() {
        if w.pages.len() >= PAGES && w.y > 480.0 {
            w.line(0.0, false, GREY, &format!("and {} more, in the text beside this", found.len() - i + left_out));
            break;
        }
        w.need(1 + f.causes.len());
        w.line(0.0, false, GREY, &f.when());
        w.y -= STEP;
        w.line(150.0, true, INK, &f.what);
        f.causes.iter().for_each(|cause| w.line(162.0, false, INK, cause));
        w.y += 3.0;
    }
    w.pages
}

fn comings(s: &State) -> Vec<Drawing> {
    if s.clients.comings.is_empty() {
        return vec![];
    }
    let all = s.clients.comings.len();
    let mut w = Writer::new("Who came and went", format!("the newest first, of {}", counted(all, "event", "events")));
    for c in s.clients.comings.iter().filter(|c| !c.operator).take(38) {
        let why = c.why.as_ref().map_or(String::new(), |why| format!(": {why}"));
        let who = c.subject.as_deref().unwrap_or("anyone");
        let text = format!("{}  {:<14} {:<12} {:<16} {}{why}", time(c.at), c.what, c.instance, who, c.roles);
        w.line(0.0, false, INK, &text);
    }
    w.pages
}

/// The findings as text.
fn in_words(title: &str, instances: &[InstanceRow], found: &[Finding]) -> String {
    let mut text = format!("Report: {title}\n\n");
    for i in instances {
        text += &format!("{:<14} {:<22} release {}, rules {}\n", i.name, i.address, i.version, i.rules);
    }
    text += &format!("\n{} found\n", counted(found.len(), "thing was", "things were"));
    for f in found {
        text += &format!("\n{}  {}\n", f.when(), f.what);
        f.causes.iter().for_each(|cause| text += &format!("    {cause}\n"));
    }
    text
}
