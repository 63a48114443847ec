//! The workbench: one [`State`](state::State), one [`Message`](message::Message), [`update`] and
//! [`view`].
//!
//! [`tasks`] does the I/O and reports by messages; a burst of messages is processed and then drawn
//! once. The workbench knows instances only as a client: through live queries on the system tables, the operator's
//! calls, and watchers that are clients like any other.

mod access;
pub mod action;
pub mod alarms;
pub mod export;
pub mod ids;
pub mod input;
mod judging;
mod keeping;
pub mod keymap;
pub mod line;
pub mod marks;
pub mod message;
pub mod overlays;
pub mod page;
pub mod paint;
pub mod perform;
pub mod player;
pub mod possible;
pub mod rail;
pub mod rates;
pub mod replay;
pub mod state;
pub mod tasks;
pub mod theme;
pub mod update;
pub mod view;
pub mod views;
pub mod watchers;
pub mod words;

pub use access::{Access, Place, UNKNOWN_ROLES};

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use gossip_server::auth::Tokens;
use serde_json::Map;
use tokio::sync::mpsc;

use crate::recording::Event;
use crate::signals::Ending;
use crate::workbench::message::{Effect, Message};
use crate::workbench::state::State;
use crate::workbench::tasks::Tasks;
use crate::workbench::theme::Theme;

/// A token for the workbench's own operator.
///
/// # Errors
/// No role may operate, or tokens cannot be signed here.
pub fn operator_token(tokens: &Tokens) -> Result<String, String> {
    let role = tokens.operators().ok_or("auth.operators is missing")?.to_string();
    tokens.mint_for("workbench", &[role], &Map::new(), gossip_server::now() / 1_000_000, 30 * 86_400)
}

/// Longest time between two redraws while messages arrive.
const FRAME: Duration = Duration::from_millis(33);

/// Time between ticks, which move clocks and rates.
const TICK: Duration = Duration::from_millis(250);

/// Most messages processed before the screen is drawn again.
const BURST: usize = 4_096;

/// Runs the workbench until the user leaves it. The terminal is restored also after a panic.
///
/// # Errors
/// The terminal fails.
pub async fn run(access: Access, ending: Ending) -> Result<(), String> {
    let state = State::new(&access, Theme::from_env(), gossip_server::now());
    run_with(access, state, ending).await
}

/// Runs the workbench on a recording.
///
/// # Errors
/// The terminal fails.
pub async fn replay(events: Vec<Event>, title: String, ending: Ending) -> Result<(), String> {
    run_with(Access::default(), replay::state(events, title, Theme::from_env()), ending).await
}

async fn run_with(access: Access, mut state: State, ending: Ending) -> Result<(), String> {
    let fail = |e: std::io::Error| format!("terminal: {e}; the workbench needs one, gossip demo --headless does not");
    let (messages, mut inbox) = mpsc::channel(tasks::CHANNEL);
    let mut terminal = ratatui::try_init().map_err(fail)?;
    mouse(true);
    // ratatui's panic hook restores the terminal; the mouse has to be released as well.
    let restore = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        mouse(false);
        restore(info);
    }));
    let watchers = access.watchers.clone();
    let mut tasks = Tasks::start(access, messages.clone());
    for w in watchers {
        let named = |p: &state::PlaceState| Some(&p.name) == w.instance.as_ref();
        let place = state.places.iter().position(named).unwrap_or(0);
        watchers::add_watcher(&mut state, &w.persona, &w.query, place).into_iter().for_each(|e| tasks.carry_out(e));
    }
    let keys = read_keys(messages.clone());
    let outcome = show(&mut terminal, &mut state, &mut tasks, (&mut inbox, ending)).await;
    keys.store(true, Ordering::Relaxed);
    tasks.stop();
    mouse(false);
    if ratatui::try_restore().and_then(|()| terminal.show_cursor()).is_err() {
        // The terminal is gone. Dropping it would say that on standard error, which may be gone with it, and panic.
        std::mem::forget(terminal);
    }
    outcome.map_err(fail)
}

/// Turns mouse events on or off. Terminals without them ignore it.
fn mouse(on: bool) {
    use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
    let mut out = std::io::stdout();
    let _ =
        if on { crossterm::execute!(out, EnableMouseCapture) } else { crossterm::execute!(out, DisableMouseCapture) };
}

async fn show(
    terminal: &mut ratatui::DefaultTerminal,
    state: &mut State,
    tasks: &mut Tasks,
    (inbox, mut ending): (&mut mpsc::Receiver<Message>, Ending),
) -> std::io::Result<()> {
    let mut tick = tokio::time::interval(TICK);
    while !state.leaving {
        terminal.draw(|frame| view::view(state, frame))?;
        let drawn = tokio::time::Instant::now();
        let mut burst = Vec::new();
        tokio::select! {
            n = inbox.recv_many(&mut burst, BURST) => if n == 0 { return Ok(()) },
            _ = tick.tick() => burst.push(Message::Tick(gossip_server::now())),
            () = ending.told() => return Ok(()),
        }
        // Redraw at once after a key; a stream of changes waits for the next frame.
        if !burst.iter().any(|m| matches!(m, Message::Key(_) | Message::Mouse(_) | Message::Resized)) {
            tokio::time::sleep_until(drawn + FRAME).await;
            while let Ok(more) = inbox.try_recv() {
                burst.push(more);
                if burst.len() >= BURST {
                    break;
                }
            }
        }
        for message in burst {
            if let Message::Tick(now) = message {
                replay::play(state, now);
            }
            for effect in update::update(state, message) {
                match effect {
                    // The clipboard belongs to the terminal, which only this task writes to.
                    Effect::Copy(text) => crossterm::execute!(
                        std::io::stdout(),
                        crossterm::clipboard::CopyToClipboard::to_clipboard_from(text)
                    )?,
                    effect => tasks.carry_out(effect),
                }
            }
        }
    }
    Ok(())
}

/// Reads keys on its own thread, until the returned flag is set.
fn read_keys(messages: mpsc::Sender<Message>) -> Arc<AtomicBool> {
    use crossterm::event::{self, Event, KeyEventKind, MouseEventKind};
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = stop.clone();
    std::thread::spawn(move || {
        while !stopped.load(Ordering::Relaxed) {
            let message = match event::poll(Duration::from_millis(100))
                .and_then(|ready| ready.then(event::read).transpose())
            {
                Ok(Some(Event::Key(key))) if key.kind != KeyEventKind::Release => Message::Key(key),
                Ok(Some(Event::Mouse(event))) if !matches!(event.kind, MouseEventKind::Moved) => Message::Mouse(event),
                Ok(Some(Event::Resize(..))) => Message::Resized,
                Ok(_) => continue,
                Err(_) => return,
            };
            if messages.blocking_send(message).is_err() {
                return;
            }
        }
    });
    stop
}
