//! The demo's story: a cooperative of mountain refuge huts.
//!
//! Three huts take bookings, each on its own copy; two noticeboards in the
//! valley only receive; an archive gathers weather readings from all huts.
//! On a slow Friday some links do not carry, and over the bad weekend after it something of every
//! kind goes wrong. All names and
//! numbers are made up.

use std::path::Path;
use std::time::Duration;

use rusqlite::types::Value as Cell;

use crate::journal::JournalRow;
use crate::network::{Change, Lab, LabError};
use crate::truth::PlantedFault;

/// The topology of the story.
pub const TOPOLOGY: &str = r#"# The refuge huts: three offices that all take bookings, two noticeboards,
# and an archive of weather readings.
name = "refuge-huts"

[node.valley]
at = "sqlite:valley.db"
writes = true

[node.saddle]
at = "sqlite:saddle.db"
writes = true

[node.cirque]
at = "sqlite:cirque.db"
writes = true

[node.board-east]
at = "sqlite:boards/east.db"

[node.board-west]
at = "sqlite:boards/west.db"

[node.archive]
at = "sqlite:archive.db"

# What the three offices share.
[set.bookings]
tables = ["hut", "bed", "guest", "stay", "logbook_line"]

[set.trails]
tables = ["trail_notice"]

# What the boards get to see of the notices.
[set.board]
tables = ["trail_notice"]
where = "published = 1"
without = ["draft_note"]

[set.weather]
tables = ["weather_reading"]

[[link]]
mesh = ["valley", "saddle", "cirque"]
carries = ["bookings", "trails"]

[[link]]
from = "valley"
to = ["board-east", "board-west"]
carries = ["board"]

[[link]]
from = ["valley", "saddle", "cirque"]
to = "archive"
carries = ["weather"]

[limits]
trailing = "30s"
stalled = "2m"

[unique]                                # what the offices hold to; the nodes know nothing of it
stay = ["hut", "bed", "night"]

[authority]
default = "majority"
trail_notice = "valley"
"#;

const OFFICE_SCHEMA: &str = r#"
CREATE TABLE hut (code TEXT NOT NULL PRIMARY KEY, name TEXT NOT NULL, altitude INTEGER NOT NULL, stamp BLOB);
CREATE TABLE bed (hut TEXT NOT NULL REFERENCES hut, number INTEGER NOT NULL, kind TEXT NOT NULL,
    PRIMARY KEY (hut, number)) WITHOUT ROWID;
CREATE TABLE guest (id INTEGER PRIMARY KEY, name TEXT NOT NULL, phone TEXT, note TEXT);
CREATE TABLE stay (id INTEGER PRIMARY KEY, guest INTEGER NOT NULL REFERENCES guest, hut TEXT NOT NULL,
    bed INTEGER NOT NULL, night TEXT NOT NULL, price REAL NOT NULL, "paid on" TEXT,
    FOREIGN KEY (hut, bed) REFERENCES bed (hut, number));
CREATE TABLE trail_notice (code TEXT NOT NULL PRIMARY KEY, trail TEXT NOT NULL, "text" TEXT NOT NULL,
    published INTEGER NOT NULL, draft_note TEXT);
CREATE TABLE logbook_line (hut TEXT NOT NULL, day TEXT NOT NULL, line TEXT NOT NULL);
CREATE TABLE weather_reading (hut TEXT NOT NULL, taken TEXT NOT NULL, temperature REAL, wind INTEGER,
    PRIMARY KEY (hut, taken)) WITHOUT ROWID;
"#;

const BOARD_SCHEMA: &str = r#"
CREATE TABLE trail_notice (code TEXT NOT NULL PRIMARY KEY, trail TEXT NOT NULL, "text" TEXT NOT NULL,
    published INTEGER NOT NULL);
"#;

const ARCHIVE_SCHEMA: &str = r#"
CREATE TABLE weather_reading (hut TEXT NOT NULL, taken TEXT NOT NULL, temperature REAL, wind INTEGER,
    PRIMARY KEY (hut, taken)) WITHOUT ROWID;
CREATE TABLE frost_day (hut TEXT NOT NULL, day TEXT NOT NULL, PRIMARY KEY (hut, day)) WITHOUT ROWID;
CREATE TRIGGER note_frost AFTER INSERT ON weather_reading WHEN new.temperature < 0
BEGIN
    INSERT OR IGNORE INTO frost_day VALUES (new.hut, substr(new.taken, 1, 10));
END;
"#;

const OFFICES: [&str; 3] = ["valley", "saddle", "cirque"];
const GUESTS_PER_OFFICE: i64 = 200;
const STAYS_PER_OFFICE: i64 = 500;
const READINGS_PER_HUT: i64 = 400;

/// The story while it is told.
#[derive(Debug)]
pub struct Story {
    lab: Lab,
}

/// Steps of the network on the Friday before the weekend, and how long one takes when it is watched.
const FRIDAY: u32 = 45;
const STEP_TAKES: Duration = Duration::from_millis(50);

impl Story {
    /// Opens the season in an empty folder. On its last Friday not every link carries.
    ///
    /// # Errors
    /// [`LabError`] when the folder cannot be used.
    pub fn begin(folder: &Path, seed: u64) -> Result<Self, LabError> {
        let schema = |node: &str| match node {
            "archive" => ARCHIVE_SCHEMA.to_owned(),
            board if board.starts_with("board-") => BOARD_SCHEMA.to_owned(),
            // Set up from an older script: the same columns, two of them the other way round.
            "cirque" => OFFICE_SCHEMA.replace("phone TEXT, note TEXT", "note TEXT, phone TEXT"),
            _ => OFFICE_SCHEMA.to_owned(),
        };
        let mut lab = Lab::create(folder, TOPOLOGY, schema, seed)?;
        open_the_season(&mut lab)?;
        lab.settle(100)?;
        a_slow_friday(&mut lab)?;
        Ok(Self { lab })
    }

    /// Lets the network run for the Friday while somebody does some work; as long as that takes, but
    /// always for the same number of steps, so that the same seed makes the same files.
    ///
    /// # Errors
    /// [`LabError`] when a node fails.
    pub fn run_while<T>(&mut self, work: impl FnOnce() -> T) -> Result<T, LabError> {
        let lab = &mut self.lab;
        std::thread::scope(|scope| {
            let running = scope.spawn(move || -> Result<(), LabError> {
                for step in 0..FRIDAY {
                    lab.step()?;
                    write_on(lab, step)?;
                    std::thread::sleep(STEP_TAKES);
                }
                Ok(())
            });
            let result = work();
            let ran = running.join();
            ran.unwrap_or_else(|_| Err(LabError::Unknown("step of the network".to_owned())))?;
            Ok(result)
        })
    }

    /// Mends the links, lets the weekend happen, and returns what went wrong in all.
    ///
    /// # Errors
    /// [`LabError`] when a node fails.
    pub fn end(mut self) -> Result<Vec<PlantedFault>, LabError> {
        let lab = &mut self.lab;
        for (from, to) in FRIDAY_LINKS {
            lab.resume(from, to)?;
        }
        lab.settle(100)?;
        a_bad_weekend(lab)?;
        lab.settle(100)?;
        by_hand(lab)?;
        let deeds = lab.truth().to_vec();
        self.lab.close()?;
        Ok(deeds)
    }
}

/// Does in the folder of a network what preflight asks for: the archive's trigger fires on no row that arrives.
///
/// # Errors
/// [`LabError`] when SQLite refuses.
pub fn follow_preflight(folder: &Path) -> Result<(), LabError> {
    let refused = |error| LabError::Sqlite { node: "archive".to_owned(), error };
    let archive = rusqlite::Connection::open(folder.join("archive.db")).map_err(refused)?;
    archive.execute_batch("DROP TRIGGER note_frost").map_err(refused)
}

/// The links that do not carry as they should on the Friday.
const FRIDAY_LINKS: [(&str, &str); 3] =
    [("cirque", "saddle"), ("valley", "archive"), ("valley", "board-west")];

/// A link that says it runs and carries nothing, one that is slow, and a board that follows nobody any more.
fn a_slow_friday(lab: &mut Lab) -> Result<(), LabError> {
    lab.stick("cirque", "saddle")?;
    lab.slow("valley", "archive", 1)?;
    lab.detach("valley", "board-west")?;
    for hour in 0..800 {
        let mut cells = reading("valley", READINGS_PER_HUT + hour);
        cells.push(("temperature".to_owned(), Cell::Real(8.5)));
        cells.push(("wind".to_owned(), Cell::Integer(12)));
        lab.write("valley", &[Change::Insert("weather_reading", cells)])?;
    }
    for number in 0..3 {
        paid(lab, "cirque", own_id(2, 10 + number))?;
    }
    Ok(())
}

/// A stay is paid for.
fn paid(lab: &mut Lab, office: &str, stay: i64) -> Result<(), LabError> {
    let cells = row([("paid on", text("2026-09-25"))]);
    lab.write(office, &[Change::Update("stay", id(stay), cells)]).map(drop)
}

/// The work of the application at the saddle while the network runs.
fn write_on(lab: &mut Lab, step: u32) -> Result<(), LabError> {
    if step.is_multiple_of(5) {
        paid(lab, "saddle", own_id(1, 200 + i64::from(step)))?;
    }
    Ok(())
}

fn text(text: impl Into<String>) -> Cell {
    Cell::Text(text.into())
}

fn row<const N: usize>(cells: [(&str, Cell); N]) -> JournalRow {
    cells.into_iter().map(|(name, cell)| (name.to_owned(), cell)).collect()
}

fn id(id: i64) -> JournalRow {
    row([("id", Cell::Integer(id))])
}

/// Each office counts its own ids in steps of three, so that they never collide.
fn own_id(office: usize, number: i64) -> i64 {
    number * 3 + i64::try_from(office).unwrap_or(0) + 1
}

fn night(day: i64) -> String {
    let months = [(6, 30), (7, 31), (8, 31), (9, 30)];
    let mut day = day % 122;
    for (month, days) in months {
        if day < days {
            return format!("2026-{month:02}-{:02}", day + 1);
        }
        day -= days;
    }
    "2026-09-30".to_owned()
}

const FIRST: [&str; 16] = [
    "Aina", "Bero", "Cilia", "Dario", "Elva", "Fenn", "Gisla", "Hano", "Iris", "Jorin", "Kaja",
    "Lenz", "Mira", "Noel", "Orla", "Pirmin",
];
const LAST: [&str; 14] = [
    "Abächerli",
    "Brändle",
    "Caduff",
    "Dønvold",
    "Espinar",
    "Frühauf",
    "Gallati",
    "Høgset",
    "Imfeld",
    "Jørstad",
    "Kühnis",
    "Łoziński",
    "Mørk",
    "Núñez",
];
const TRAILS: [&str; 6] =
    ["Balcony path", "North gully", "Lake round", "Old mule track", "Ridge walk", "Chamois steps"];
const STATES: [&str; 5] = [
    "open",
    "snow above 2400 m",
    "bridge out, ford upstream",
    "rockfall, closed",
    "muddy, poles useful",
];
const LINES: [&str; 6] = [
    "Clear night, stars to the ridge.",
    "Soup for nineteen.",
    "Two parties back early.",
    "Stove smokes again.",
    "Helicopter brought wood.",
    "Nobody but the marmots.",
];

fn open_the_season(lab: &mut Lab) -> Result<(), LabError> {
    let huts = [
        ("valley", "Talhaus", 1480),
        ("saddle", "Sattelhütte", 2310),
        ("cirque", "Refugi del Circ", 2655),
    ];
    let mut first = Vec::new();
    for (code, name, altitude) in huts {
        let stamp = code.bytes().map(|b| b.wrapping_mul(7)).collect();
        let cells = [
            ("code", text(code)),
            ("name", text(name)),
            ("altitude", Cell::Integer(altitude)),
            ("stamp", Cell::Blob(stamp)),
        ];
        first.push(Change::Insert("hut", row(cells)));
    }
    for (code, _, _) in huts {
        for number in 1..=24 {
            let kind = if number <= 4 { "room" } else { "dormitory" };
            let cells =
                [("hut", text(code)), ("number", Cell::Integer(number)), ("kind", text(kind))];
            first.push(Change::Insert("bed", row(cells)));
        }
    }
    for number in 0..40 {
        let drafted = number % 5 == 4;
        let cells = [
            ("code", text(format!("N{:03}", number + 1))),
            ("trail", text(TRAILS[number % TRAILS.len()])),
            ("text", text(STATES[(number * 3) % STATES.len()])),
            ("published", Cell::Integer(i64::from(!drafted))),
            ("draft_note", if drafted { text("ask the warden first") } else { Cell::Null }),
        ];
        first.push(Change::Insert("trail_notice", row(cells)));
    }
    lab.write("valley", &first)?;
    lab.settle(10)?;
    for (office, name) in OFFICES.into_iter().enumerate() {
        let guests = a_season_of_guests(lab, office);
        lab.write(name, &guests)?;
        let readings = a_season_of_readings(lab, name);
        lab.write(name, &readings)?;
    }
    Ok(())
}

fn a_season_of_guests(lab: &mut Lab, office: usize) -> Vec<Change> {
    let hut = OFFICES[office];
    let mut pick = |list: &[&str]| {
        list[usize::try_from(lab.random(list.len() as u64)).unwrap_or(0)].to_owned()
    };
    let mut changes = Vec::new();
    for number in 0..GUESTS_PER_OFFICE {
        let cells = [
            ("id", Cell::Integer(own_id(office, number))),
            ("name", text(format!("{} {}", pick(&FIRST), pick(&LAST)))),
            ("phone", text(format!("+00 555 {:04}", own_id(office, number)))),
            ("note", if number % 7 == 0 { text("vegetarian") } else { Cell::Null }),
        ];
        changes.push(Change::Insert("guest", row(cells)));
    }
    for number in 0..100 {
        let cells =
            [("hut", text(hut)), ("day", text(night(number))), ("line", text(pick(&LINES)))];
        changes.push(Change::Insert("logbook_line", row(cells)));
    }
    for number in 0..STAYS_PER_OFFICE {
        let guest = i64::try_from(lab.random(GUESTS_PER_OFFICE.unsigned_abs())).unwrap_or(0);
        let bed = i64::try_from(lab.random(24)).unwrap_or(0) + 1;
        let cells = [
            ("id", Cell::Integer(own_id(office, number))),
            ("guest", Cell::Integer(own_id(office, guest))),
            ("hut", text(hut)),
            ("bed", Cell::Integer(bed)),
            ("night", text(night(number / 4))),
            ("price", Cell::Real(if bed <= 4 { 58.5 } else { 34.0 })),
            ("paid on", if number % 3 == 0 { text(night(number / 4)) } else { Cell::Null }),
        ];
        changes.push(Change::Insert("stay", row(cells)));
    }
    changes
}

fn reading(hut: &str, hour: i64) -> JournalRow {
    row([("hut", text(hut)), ("taken", text(format!("{}T{:02}:00Z", night(hour / 24), hour % 24)))])
}

fn a_season_of_readings(lab: &mut Lab, hut: &str) -> Vec<Change> {
    (0..READINGS_PER_HUT)
        .map(|hour| {
            let tenths = i32::try_from(lab.random(180)).unwrap_or(0) - 40;
            let mut cells = reading(hut, hour);
            cells.push(("temperature".to_owned(), Cell::Real(f64::from(tenths) / 10.0)));
            cells.push((
                "wind".to_owned(),
                Cell::Integer(i64::try_from(lab.random(90)).unwrap_or(0)),
            ));
            Change::Insert("weather_reading", cells)
        })
        .collect()
}

/// The faults of the links.
fn a_bad_weekend(lab: &mut Lab) -> Result<(), LabError> {
    // Two offices move the same stay at once: each ends with the other's bed.
    let stay = own_id(0, 120);
    let to_bed = |bed| Change::Update("stay", id(stay), row([("bed", Cell::Integer(bed))]));
    lab.race(&[("valley", to_bed(7)), ("saddle", to_bed(19))])?;
    // All three correct the same phone number, and none hears of the others: nobody has a majority.
    let phone = |number: &str| {
        let cells = row([("phone", text(number))]);
        Change::Update("guest", id(own_id(1, 33)), cells)
    };
    let corrections = lab.race(&[
        ("valley", phone("+00 555 9101")),
        ("saddle", phone("+00 555 9102")),
        ("cirque", phone("+00 555 9103")),
    ])?;
    for tx in &corrections {
        for office in OFFICES.into_iter().filter(|office| *office != tx.origin) {
            lab.lose(tx, office)?;
        }
    }
    lab.settle(20)?;

    // A late booking with a new guest never reaches the saddle.
    let (guest, stay) = (own_id(2, GUESTS_PER_OFFICE), own_id(2, STAYS_PER_OFFICE));
    let cells = [
        ("id", Cell::Integer(guest)),
        ("name", text("Quirin Dønvold")),
        ("phone", Cell::Null),
        ("note", Cell::Null),
    ];
    let new_guest = Change::Insert("guest", row(cells));
    let new_stay = Change::Insert(
        "stay",
        row([
            ("id", Cell::Integer(stay)),
            ("guest", Cell::Integer(guest)),
            ("hut", text("cirque")),
            ("bed", Cell::Integer(3)),
            ("night", text("2026-09-26")),
            ("price", Cell::Real(58.5)),
            ("paid on", Cell::Null),
        ]),
    );
    let late = lab.write("cirque", &[new_guest, new_stay])?;
    lab.lose(&late, "saddle")?;
    a_bed_given_twice(lab)?;
    a_booking_lost(lab)?;
    // A cancelled stay is still booked at the cirque.
    let cancelled = lab.write("saddle", &[Change::Delete("stay", id(own_id(1, 77)))])?;
    lab.lose(&cancelled, "cirque")?;
    // A line of the logbook arrives twice.
    let line = [
        ("hut", text("valley")),
        ("day", text("2026-09-26")),
        ("line", text("First snow on the terrace.")),
    ];
    let line = lab.write("valley", &[Change::Insert("logbook_line", row(line))])?;
    lab.double(&line, "saddle")?;
    // One notice is taken down and one withdrawn to a draft; a board misses each.
    let code = |code: &str| row([("code", text(code))]);
    let gone = lab.write("valley", &[Change::Delete("trail_notice", code("N012"))])?;
    lab.lose(&gone, "board-east")?;
    let withdrawn = lab.write(
        "valley",
        &[Change::Update("trail_notice", code("N023"), row([("published", Cell::Integer(0))]))],
    )?;
    lab.lose(&withdrawn, "board-west")?;
    // The archive misses a transaction of three readings.
    let cells = |hour| {
        let mut cells = reading("cirque", READINGS_PER_HUT + hour);
        cells.push(("temperature".to_owned(), Cell::Real(-2.5)));
        cells.push(("wind".to_owned(), Cell::Integer(61)));
        Change::Insert("weather_reading", cells)
    };
    let readings = lab.write("cirque", &[cells(0), cells(1), cells(2)])?;
    lab.lose(&readings, "archive")
}

/// Two offices give away the last room of a hut for one night, each to its own guest. Every copy has both.
fn a_bed_given_twice(lab: &mut Lab) -> Result<(), LabError> {
    let booked = |office: usize, guest: i64| {
        let cells = [
            ("id", Cell::Integer(own_id(office, STAYS_PER_OFFICE + 1))),
            ("guest", Cell::Integer(own_id(office, guest))),
            ("hut", text("cirque")),
            ("bed", Cell::Integer(2)),
            ("night", text("2026-09-27")),
            ("price", Cell::Real(58.5)),
            ("paid on", Cell::Null),
        ];
        Change::Insert("stay", row(cells))
    };
    lab.race(&[("valley", booked(0, 12)), ("cirque", booked(2, 71))])?;
    lab.settle(20)
}

/// The valley moves a stay to another night while the saddle has it paid. The valley's write is dropped on its
/// way, the saddle's replaces it at home, and all copies agree that the guest comes on the old night.
fn a_booking_lost(lab: &mut Lab) -> Result<(), LabError> {
    let stay = own_id(0, 140);
    let change = |cells: JournalRow| Change::Update("stay", id(stay), cells);
    let moved = row([("night", text("2026-09-29")), ("bed", Cell::Integer(4))]);
    let raced = lab.race(&[
        ("valley", change(moved)),
        ("saddle", change(row([("paid on", text("2026-09-26"))]))),
    ])?;
    for office in ["saddle", "cirque"] {
        lab.lose(&raced[0], office)?;
    }
    lab.settle(20)
}

/// The changes that people made past the applications.
fn by_hand(lab: &mut Lab) -> Result<(), LabError> {
    lab.tamper("cirque", &format!("UPDATE guest SET note = '' WHERE id = {}", own_id(0, 15)))?;
    lab.tamper("board-west", "UPDATE trail_notice SET published = 0 WHERE code = 'N007'")?;
    lab.tamper(
        "archive",
        "UPDATE weather_reading SET temperature = round(temperature) + 0.25 WHERE hut = 'saddle' AND taken = '2026-06-03T14:00Z'",
    )?;
    lab.tamper(
        "archive",
        "INSERT INTO weather_reading VALUES ('test rig', '2026-06-01T00:00Z', 21.0, 0)",
    )
}
