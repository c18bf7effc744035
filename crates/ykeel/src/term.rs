//! The terminal: taken over and given back, also after a panic.

use std::io::{Stdout, Write, stdout};
use std::sync::atomic::{AtomicBool, Ordering};

use crossterm::cursor::Show;
use crossterm::event::{DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture};
use crossterm::execute;
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;

/// True while the terminal is in full-screen mode.
static TAKEN: AtomicBool = AtomicBool::new(false);

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
        enter()?;
        Ok(Self { terminal: Terminal::new(CrosstermBackend::new(stdout()))? })
    }

    /// Stops the program as the shell's job control does, and takes the terminal again when it goes on.
    pub(crate) fn suspend(&mut self) -> anyhow::Result<()> {
        give_back();
        let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::TSTP);
        enter()?;
        // A new one draws everything; clearing would ask the terminal a question whose answer the keys' thread takes.
        self.terminal = Terminal::new(CrosstermBackend::new(stdout()))?;
        Ok(())
    }
}

fn enter() -> anyhow::Result<()> {
    TAKEN.store(true, Ordering::SeqCst);
    enable_raw_mode()?;
    execute!(stdout(), EnterAlternateScreen, EnableBracketedPaste)?;
    Ok(())
}

/// Takes clicks and the wheel, or leaves them to the terminal, which selects with them.
pub(crate) fn take_mouse(take: bool) {
    // A terminal without a mouse has nothing to say to it.
    let _ = if take { execute!(stdout(), EnableMouseCapture) } else { execute!(stdout(), DisableMouseCapture) };
}

impl Drop for Guard {
    fn drop(&mut self) {
        give_back();
    }
}

/// The terminal's bell: long work ended, or somebody is wanted.
pub(crate) fn ring() {
    let mut out = stdout();
    let _ = out.write_all(b"\x07").and_then(|()| out.flush());
}

/// The most bytes that a terminal is asked to put on its clipboard.
const MOST_CLIPPED: usize = 64 << 10;

/// Asks the terminal to put `text` on its clipboard (OSC 52); what it does not know it ignores.
pub(crate) fn clip(text: &str) {
    let mut out = stdout();
    let _ = out.write_all(&clip_sequence(text)).and_then(|()| out.flush());
}

fn clip_sequence(text: &str) -> Vec<u8> {
    let end = (0..=text.len().min(MOST_CLIPPED)).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let coded = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, &text[..end]);
    format!("\x1b]52;c;{coded}\x1b\\").into_bytes()
}

/// Gives the terminal back, where it was taken.
pub(crate) fn give_back() {
    if TAKEN.swap(false, Ordering::SeqCst) {
        let _ = execute!(stdout(), DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, Show);
        let _ = disable_raw_mode();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_for_the_clipboard_is_coded_whole_and_cut_between_signs() {
        assert_eq!(clip_sequence("n1\tQuay"), b"\x1b]52;c;bjEJUXVheQ==\x1b\\");
        let long = clip_sequence(&"ä".repeat(MOST_CLIPPED));
        assert!(long.len() < MOST_CLIPPED * 2 && long.iter().filter(|byte| **byte == 0x1b).count() == 2);
    }
}
