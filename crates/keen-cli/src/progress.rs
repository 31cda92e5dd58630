//! Progress on a terminal.

use std::fmt::Write;
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};

use crate::numbers::grouped;

/// A bar on standard error, or nothing where there is no terminal.
pub(crate) struct Progress {
    bar: ProgressBar,
    /// Waits for the moment from which the bar is worth drawing; ends when this is dropped.
    waiting: Option<(Sender<()>, JoinHandle<()>)>,
}

/// A run that ends sooner needs no bar.
const SOON: Duration = Duration::from_millis(400);

impl Progress {
    /// A bar that appears if the work takes longer than a moment.
    pub(crate) fn new(on_terminal: bool) -> Self {
        let bar = ProgressBar::with_draw_target(Some(0), ProgressDrawTarget::hidden());
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
        let waiting = on_terminal.then(|| {
            let (done, wait) = channel();
            let bar = bar.clone();
            let thread = std::thread::spawn(move || {
                if wait.recv_timeout(SOON) == Err(RecvTimeoutError::Timeout) {
                    bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(10));
                    bar.enable_steady_tick(Duration::from_millis(250));
                }
            });
            (done, thread)
        });
        Self { bar, waiting }
    }

    pub(crate) fn expect(&self, rows: u64) {
        self.bar.set_length(rows);
    }

    pub(crate) fn table(&self, name: &str) {
        self.bar.set_message(crate::safe::text(name));
    }

    pub(crate) fn advance(&self, rows: u64) {
        self.bar.inc(rows);
        // The length was an estimate; a bar beyond its end would be a lie.
        if self.bar.length().is_some_and(|length| self.bar.position() > length) {
            self.bar.set_length(self.bar.position());
        }
    }

    pub(crate) fn done(&mut self) {
        if let Some((done, thread)) = self.waiting.take() {
            drop(done);
            drop(thread.join());
        }
        self.bar.finish_and_clear();
    }
}
