//! The terminal: taken over and given back, also after a panic.

use std::io::{Stdout, stdout};

use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;

/// Holds the terminal in full-screen mode; gives it back on drop.
pub(crate) struct Guard {
    /// Where frames are drawn.
    pub(crate) terminal: Terminal<CrosstermBackend<Stdout>>,
}

impl Guard {
    /// Takes the terminal over. The panic hook gives it back before anything is printed.
    pub(crate) fn take() -> anyhow::Result<Self> {
        let before = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |panic| {
            // A worker's panic reaches the screen as its job's result; only the main thread's ends the screens.
            if std::thread::current().name() == Some("main") {
                give_back();
                before(panic);
            }
        }));
        enable_raw_mode()?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture)?;
        Ok(Self { terminal: Terminal::new(CrosstermBackend::new(stdout()))? })
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        give_back();
    }
}

fn give_back() {
    let _ = execute!(stdout(), DisableMouseCapture, LeaveAlternateScreen);
    let _ = disable_raw_mode();
}
