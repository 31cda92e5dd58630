//! Progress on a terminal.

use std::fmt::Write;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};

use crate::render::style::grouped;

/// A bar on standard error, or nothing where there is no terminal.
pub(crate) struct Progress(ProgressBar);

impl Progress {
    /// A bar that appears once its length is known.
    pub(crate) fn new(on_terminal: bool) -> Self {
        let bar = ProgressBar::with_draw_target(
            Some(0),
            if on_terminal {
                ProgressDrawTarget::stderr_with_hz(10)
            } else {
                ProgressDrawTarget::hidden()
            },
        );
        let style = ProgressStyle::with_template(
            "{msg:24!} {wide_bar} {rows} rows  {speed} rows/s  {eta} left",
        );
        if let Ok(style) = style {
            let rows = |state: &ProgressState, out: &mut dyn Write| {
                let _ = out.write_str(&grouped(state.pos()));
            };
            let speed = |state: &ProgressState, out: &mut dyn Write| {
                #[expect(
                    clippy::cast_possible_truncation,
                    clippy::cast_sign_loss,
                    reason = "a speed shown to people"
                )]
                let speed = state.per_sec() as u64;
                let _ = out.write_str(&grouped(speed));
            };
            bar.set_style(
                style.with_key("rows", rows).with_key("speed", speed).progress_chars("=> "),
            );
        }
        bar.enable_steady_tick(Duration::from_millis(250));
        Self(bar)
    }

    pub(crate) fn expect(&self, rows: u64) {
        self.0.set_length(rows);
    }

    pub(crate) fn table(&self, name: &str) {
        self.0.set_message(crate::safe::text(name));
    }

    pub(crate) fn advance(&self, rows: u64) {
        self.0.inc(rows);
        // The length was an estimate; a bar beyond its end would be a lie.
        if self.0.length().is_some_and(|length| self.0.position() > length) {
            self.0.set_length(self.0.position());
        }
    }

    pub(crate) fn done(&self) {
        self.0.finish_and_clear();
    }
}
