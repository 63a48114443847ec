//! A headless Chromium, driven over its debugging protocol.

use std::cell::{Cell, RefCell};
use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Stdio};

use anyhow::{Context, Result};
use base64::Engine;
use serde_json::{Value as Json, json};
use tungstenite::{Message, WebSocket};

use crate::{PATIENCE, Process, require, wait_for};

/// A page in a browser of its own, which ends with it.
pub struct Browser {
    page: RefCell<WebSocket<TcpStream>>,
    next: Cell<u64>,
    _process: Process,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Opens a page in a window of this size, in pixels.
    ///
    /// # Panics
    /// Chromium is missing or does not start.
    pub fn open(url: &str, (width, height): (u32, u32)) -> Browser {
        require("chromium", "chromium");
        Browser::start(url, width, height).unwrap_or_else(|e| panic!("chromium: {e:#}"))
    }

    fn start(url: &str, width: u32, height: u32) -> Result<Browser> {
        let profile = tempfile::tempdir()?;
        let child = Command::new("chromium")
            .args(["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-first-run"])
            .arg("--hide-scrollbars")
            .arg(format!("--window-size={width},{height}"))
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .args(["--remote-debugging-port=0", "about:blank"])
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()?;
        let mut process = Process(child);
        let said = process.0.stderr.take().context("no standard error")?;
        let (tell, told) = std::sync::mpsc::channel();
        // Read to its end: a browser whose words nobody takes stops at some point.
        std::thread::spawn(move || {
            for line in BufReader::new(said).lines().map_while(std::result::Result::ok) {
                if let Some((_, address)) = line.split_once("DevTools listening on ") {
                    let _ = tell.send(address.trim().to_string());
                }
            }
        });
        let address = told.recv_timeout(PATIENCE).context("it has not said where it listens")?;
        let made = call(&mut connect(&address)?, 1, "Target.createTarget", &json!({"url": "about:blank"}))?;
        let (at, _) = address.split_once("/devtools/").context("an address of another kind")?;
        let target = made["targetId"].as_str().context("no page")?;
        let (page, next) = (RefCell::new(connect(&format!("{at}/devtools/page/{target}"))?), Cell::new(1));
        let browser = Browser { page, next, _process: process, _profile: profile };
        let size = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        browser.call("Emulation.setDeviceMetricsOverride", &size)?;
        browser.call("Page.navigate", &json!({"url": url}))?;
        Ok(browser)
    }

    fn call(&self, method: &str, params: &Json) -> Result<Json> {
        call(&mut self.page.borrow_mut(), self.next.replace(self.next.get() + 1), method, params)
    }

    /// What an expression of JavaScript is in the page.
    ///
    /// # Panics
    /// The browser is gone, or the expression fails.
    pub fn evaluate(&self, expression: &str) -> Json {
        let asked = json!({"expression": expression, "returnByValue": true, "awaitPromise": true});
        let told = self.call("Runtime.evaluate", &asked).unwrap_or_else(|e| panic!("{expression}: {e:#}"));
        assert!(told["exceptionDetails"].is_null(), "{expression}: {}", told["exceptionDetails"]);
        told["result"]["value"].clone()
    }

    /// Waits until an expression of JavaScript is true in the page.
    ///
    /// # Panics
    /// It does not become true in time.
    pub fn wait(&self, what: &str, expression: &str) {
        let shown = || {
            format!("{what}; the page says\n{}", self.evaluate("document.body?.innerText").as_str().unwrap_or_default())
        };
        wait_for(shown, || (self.evaluate(&format!("Boolean({expression})")) == json!(true)).then_some(()));
    }

    /// Moves the pointer with a pressed button from point to point.
    ///
    /// # Panics
    /// The browser is gone.
    pub fn drag(&self, points: &[(f64, f64)]) {
        let event = |kind: &str, (x, y): (f64, f64)| {
            let event = json!({"type": kind, "x": x, "y": y, "button": "left", "buttons": 1, "clickCount": 1});
            self.call("Input.dispatchMouseEvent", &event).unwrap_or_else(|e| panic!("{kind}: {e:#}"));
        };
        if let (Some(first), Some(last)) = (points.first(), points.last()) {
            event("mousePressed", *first);
            points.iter().for_each(|point| event("mouseMoved", *point));
            event("mouseReleased", *last);
        }
    }

    /// Writes a picture of the page, as PNG.
    ///
    /// # Panics
    /// The browser is gone, or the file cannot be written.
    pub fn picture(&self, path: &Path) {
        let taken = || -> Result<()> {
            let told = self.call("Page.captureScreenshot", &json!({"format": "png"}))?;
            let bytes = base64::prelude::BASE64_STANDARD.decode(told["data"].as_str().unwrap_or_default())?;
            Ok(std::fs::write(path, bytes)?)
        };
        taken().unwrap_or_else(|e| panic!("{}: {e:#}", path.display()));
    }
}

fn connect(address: &str) -> Result<WebSocket<TcpStream>> {
    let at = address.trim_start_matches("ws://").split('/').next().unwrap_or_default();
    let socket = TcpStream::connect(at)?;
    socket.set_read_timeout(Some(PATIENCE))?;
    Ok(tungstenite::client(address, socket)?.0)
}

fn call(socket: &mut WebSocket<TcpStream>, id: u64, method: &str, params: &Json) -> Result<Json> {
    socket.send(Message::text(json!({"id": id, "method": method, "params": params}).to_string()))?;
    loop {
        let Message::Text(text) = socket.read()? else { continue };
        let told: Json = serde_json::from_str(&text)?;
        if told["id"] == id {
            anyhow::ensure!(told["error"].is_null(), "{method}: {}", told["error"]);
            return Ok(told["result"].clone());
        }
    }
}
