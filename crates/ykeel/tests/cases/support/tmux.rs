//! The real interface in a tmux session of its own server: keys in, screen text out.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::path::Path;
use std::process::{Command, Output};
use std::thread;
use std::time::{Duration, Instant};

/// A tmux session that ends with this value.
pub struct Session {
    server: String,
}

impl Session {
    /// Starts `command` in a new session of `width` x `height` characters.
    pub fn start(server: &str, width: u16, height: u16, folder: &Path, command: &str) -> Self {
        let session = Self { server: server.into() };
        let (width, height) = (width.to_string(), height.to_string());
        let folder = folder.to_string_lossy().into_owned();
        let shell = format!("{command}; echo \"ended $?\"; sleep 600");
        session.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", &width, "-y", &height, "-c", &folder, &shell]);
        session.tmux(&["set-option", "-g", "status", "off"]);
        session.tmux(&["set-option", "-g", "default-terminal", "tmux-256color"]);
        session
    }

    /// Runs a tmux command on this session's server.
    pub fn tmux(&self, arguments: &[&str]) -> Output {
        Command::new("tmux").args(["-u", "-L", &self.server]).args(arguments).output().expect("tmux runs")
    }

    /// The screen as text.
    pub fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p"]).stdout).into_owned()
    }

    /// Sends keys by their tmux names (`Enter`, `Down`, `Space`, `s`).
    pub fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
            thread::sleep(Duration::from_millis(80));
        }
    }

    /// Types a line as it stands.
    pub fn line(&self, text: &str) {
        self.tmux(&["send-keys", "-l", text]);
        thread::sleep(Duration::from_millis(120));
    }

    /// Pastes a file as a terminal does: between the marks that say so.
    pub fn paste(&self, file: &Path) {
        self.tmux(&["load-buffer", &file.to_string_lossy()]);
        self.tmux(&["paste-buffer", "-p"]);
        thread::sleep(Duration::from_millis(120));
    }

    /// Waits until the screen shows `text`, and answers with the screen.
    pub fn wait_for(&self, text: &str) -> String {
        self.wait_until(&format!("{text:?}"), |screen| screen.contains(text))
    }

    /// Waits until `holds` is true of the screen.
    pub fn wait_until(&self, what: &str, holds: impl Fn(&str) -> bool) -> String {
        let begun = Instant::now();
        loop {
            let screen = self.screen();
            if holds(&screen) {
                return screen;
            }
            assert!(begun.elapsed() < Duration::from_secs(180), "the screen never showed {what}:\n{screen}");
            thread::sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        let _ = Command::new("tmux").args(["-L", &self.server, "kill-server"]).output();
    }
}
