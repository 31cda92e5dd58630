//! The demo's second scene: one office takes all bookings, two others keep copies, and the lead is to move.

use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use rusqlite::types::Value as Cell;

use crate::network::{Change, Lab, LabError};

/// The topology of the scene.
pub const TOPOLOGY: &str = r#"# The valley takes all bookings; the other two offices keep copies.
name = "one-lead"

[node.valley]
at = "sqlite:valley.db"
writes = true

[node.saddle]
at = "sqlite:saddle.db"

[node.cirque]
at = "sqlite:cirque.db"

[set.bookings]
tables = ["guest"]

[[link]]
from = "valley"
to = ["saddle", "cirque"]
carries = ["bookings"]
"#;

const SCHEMA: &str = "CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT NOT NULL);";

const OFFICES: [&str; 3] = ["valley", "saddle", "cirque"];

/// Guests before the lead moves, and while it does.
const EARLIER: i64 = 200;
/// How many guests ring while the lead moves.
pub const RINGING: i64 = 40;

/// How long a step of the network takes.
const STEP_TAKES: Duration = Duration::from_millis(50);

/// The scene while it is played.
#[derive(Debug)]
pub struct Handover {
    lab: Lab,
    /// The number of the guest who rings next.
    next: i64,
}

impl Handover {
    /// Sets it up in an empty folder: both copies have what the valley took.
    ///
    /// # Errors
    /// [`LabError`] when the folder cannot be used.
    pub fn begin(folder: &Path, seed: u64) -> Result<Self, LabError> {
        let mut lab = Lab::create(folder, TOPOLOGY, |_| SCHEMA.to_owned(), seed)?;
        for copy in ["saddle", "cirque"] {
            lab.set_closed(copy, true)?;
        }
        let mut scene = Self { lab, next: 1 };
        while scene.next <= EARLIER {
            scene.ring()?;
        }
        scene.lab.settle(100)?;
        Ok(scene)
    }

    /// How many guests have rung.
    #[must_use]
    pub fn rang(&self) -> u64 {
        self.next.unsigned_abs() - 1
    }

    /// How many guests each office has.
    ///
    /// # Errors
    /// [`LabError`] when a file cannot be read.
    pub fn held(&self) -> Result<Vec<(&'static str, u64)>, LabError> {
        let held = |office| Ok((office, self.lab.count(office, "SELECT count(*) FROM guest")?));
        OFFICES.into_iter().map(held).collect()
    }

    /// How many links the offices keep.
    ///
    /// # Errors
    /// [`LabError`] when a file cannot be read.
    pub fn links_left(&self) -> Result<u64, LabError> {
        let left = |office| self.lab.count(office, "SELECT count(*) FROM keen_lab_link");
        OFFICES.into_iter().map(left).sum()
    }

    /// A guest rings. Whoever is turned away by all offices rings again later.
    fn ring(&mut self) -> Result<(), LabError> {
        let cells = vec![
            ("id".to_owned(), Cell::Integer(self.next)),
            ("name".to_owned(), Cell::Text(format!("guest {}", self.next))),
        ];
        for office in OFFICES {
            match self.lab.write(office, &[Change::Insert("guest", cells.clone())]) {
                Err(LabError::Closed(_)) => {}
                Err(error) => return Err(error),
                Ok(_) => {
                    self.next += 1;
                    break;
                }
            }
        }
        Ok(())
    }

    /// Lets the network run, and [`RINGING`] guests ring, while somebody does some work.
    ///
    /// # Errors
    /// [`LabError`] when a node fails.
    pub fn run_while<T>(&mut self, work: impl FnOnce() -> T) -> Result<T, LabError> {
        let last = self.next + RINGING;
        let is_done = AtomicBool::new(false);
        let result = std::thread::scope(|scope| {
            let running = scope.spawn(|| -> Result<(), LabError> {
                while !is_done.load(Ordering::Relaxed) {
                    if self.next < last {
                        self.ring()?;
                    }
                    self.lab.step()?;
                    std::thread::sleep(STEP_TAKES);
                }
                Ok(())
            });
            let result = work();
            is_done.store(true, Ordering::Relaxed);
            let ran = running.join();
            ran.unwrap_or_else(|_| Err(LabError::Unknown("step of the network".to_owned())))?;
            Ok::<T, LabError>(result)
        })?;
        while self.next < last {
            let before = self.next;
            self.ring()?;
            if self.next == before {
                return Err(LabError::Closed("every office".to_owned()));
            }
        }
        self.lab.settle(100)?;
        Ok(result)
    }
}
