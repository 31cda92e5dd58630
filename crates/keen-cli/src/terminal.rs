//! The abilities of the terminal, decided once.

use std::io;
use std::io::{IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};

use crate::args::Color;

/// The terminal, or what stands in its place.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Terminal {
    color: Color,
    /// Progress can be drawn on standard error.
    pub(crate) progress: bool,
    /// Columns of the terminal; none where lines go to a file or another program.
    pub(crate) columns: Option<usize>,
}

/// Writes a message to standard error. Should nobody be there to read it, that is no error.
pub(crate) fn complain(message: &str) {
    drop(writeln!(anstream::stderr(), "{message}"));
}

/// Longer lines than this are hard to read whatever the terminal.
const MOST_COLUMNS: usize = 160;

impl Terminal {
    /// Looks once.
    pub(crate) fn look(color: Color) -> Self {
        let size = terminal_size::terminal_size_of(std::io::stdout());
        Self {
            color,
            progress: std::io::stderr().is_terminal(),
            columns: size.map(|(width, _)| usize::from(width.0).clamp(40, MOST_COLUMNS)),
        }
    }

    /// Standard output, which keeps colours only where they are wanted.
    pub(crate) fn stdout(self) -> Box<dyn Write> {
        let out = std::io::stdout();
        let choice = match self.color {
            Color::Auto => AutoStream::choice(&out),
            Color::Always => ColorChoice::AlwaysAnsi,
            Color::Never => ColorChoice::Never,
        };
        Box::new(crate::terminal::UntilGone(Some(AutoStream::new(out, choice))))
    }

    /// Whether messages on standard error have colours.
    pub(crate) fn colors_errors(self) -> bool {
        match self.color {
            Color::Auto => AutoStream::choice(&std::io::stderr()) != ColorChoice::Never,
            Color::Always => true,
            Color::Never => false,
        }
    }

    /// Whether a file keeps colours: only if they were asked for by name.
    pub(crate) fn colors_files(self) -> bool {
        self.color == Color::Always
    }
}

/// Standard output whose reader may go: what is written then goes nowhere, and the run comes to what it comes to.
pub(crate) struct UntilGone<W>(pub(crate) Option<W>);

impl<W: Write> UntilGone<W> {
    fn quietly<T>(&mut self, done: io::Result<T>, otherwise: T) -> io::Result<T> {
        match done {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => {
                self.0 = None;
                Ok(otherwise)
            }
            done => done,
        }
    }
}

impl<W: Write> Write for UntilGone<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let Some(out) = &mut self.0 else { return Ok(bytes.len()) };
        let done = out.write(bytes);
        self.quietly(done, bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let Some(out) = &mut self.0 else { return Ok(()) };
        let done = out.flush();
        self.quietly(done, ())
    }
}
