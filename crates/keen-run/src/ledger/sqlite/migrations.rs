//! The tables of the file, version by version.

/// The steps from each version to the next. Never changed once released; new ones are appended.
pub(super) const MIGRATIONS: &[&str] = &[
    "
CREATE TABLE run (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    command  TEXT NOT NULL,
    topology TEXT NOT NULL,
    started  INTEGER NOT NULL,
    took_ms  INTEGER NOT NULL,
    exit     INTEGER NOT NULL,
    summary  TEXT NOT NULL
);
CREATE INDEX run_by_time ON run (topology, started);
CREATE TABLE look (
    run      INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node     TEXT NOT NULL,
    at       INTEGER NOT NULL,
    fault    TEXT,
    position TEXT,
    standby  INTEGER NOT NULL,
    own      TEXT,
    wrote    INTEGER NOT NULL,
    PRIMARY KEY (node, at, run)
) WITHOUT ROWID;
CREATE TABLE inflow (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node       TEXT NOT NULL,
    name       TEXT NOT NULL,
    applied    TEXT,
    received   TEXT,
    failures   INTEGER,
    progress   INTEGER NOT NULL,
    heartbeats INTEGER NOT NULL,
    PRIMARY KEY (run, node, name)
) WITHOUT ROWID;
CREATE TABLE outlet (
    run       INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node      TEXT NOT NULL,
    slot      TEXT NOT NULL,
    confirmed TEXT NOT NULL,
    prepared  INTEGER,
    PRIMARY KEY (run, node, slot)
) WITHOUT ROWID;
CREATE TABLE touched (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    node       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    count      INTEGER NOT NULL,
    changed    INTEGER,
    PRIMARY KEY (run, node, table_name)
) WITHOUT ROWID;
CREATE INDEX touched_by_table ON touched (node, table_name, changed);
CREATE TABLE link (
    run      INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number   INTEGER NOT NULL,
    source   TEXT,
    receiver TEXT,
    name     TEXT,
    tables   TEXT NOT NULL,
    state    TEXT NOT NULL,
    reason   TEXT NOT NULL,
    gap      INTEGER,
    unit     TEXT,
    late_ms  INTEGER,
    trend    TEXT,
    done_ms  INTEGER,
    moved    INTEGER NOT NULL,
    seen     INTEGER,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE INDEX link_by_ends ON link (source, receiver, run);
CREATE TABLE audited (
    run        INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number     INTEGER NOT NULL,
    set_name   TEXT NOT NULL,
    table_name TEXT NOT NULL,
    verdict    TEXT NOT NULL,
    rows       INTEGER NOT NULL,
    divergent  INTEGER NOT NULL,
    in_flight  INTEGER NOT NULL,
    moving     INTEGER NOT NULL,
    healed     INTEGER NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
CREATE INDEX audited_by_table ON audited (table_name, run);
CREATE TABLE finding (
    run    INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
    number INTEGER NOT NULL,
    level  TEXT NOT NULL,
    name   TEXT NOT NULL,
    nodes  TEXT NOT NULL,
    found  TEXT NOT NULL,
    PRIMARY KEY (run, number)
) WITHOUT ROWID;
",
    "
CREATE TABLE conflict (
    topology   TEXT NOT NULL,
    name       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    kind       TEXT NOT NULL,
    proven     INTEGER NOT NULL,
    standing   TEXT NOT NULL,
    lost       INTEGER NOT NULL,
    at         INTEGER,
    seen       INTEGER NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
CREATE INDEX conflict_by_table ON conflict (topology, table_name, at);
",
    "
CREATE TABLE journals_read (
    topology  TEXT NOT NULL,
    scope     TEXT NOT NULL,
    at        INTEGER NOT NULL,
    handed_on BLOB NOT NULL,
    PRIMARY KEY (topology, scope)
) WITHOUT ROWID;
",
    "
CREATE TABLE accepted (
    topology TEXT NOT NULL,
    name     TEXT NOT NULL,
    because  TEXT NOT NULL,
    at       INTEGER NOT NULL,
    standing TEXT NOT NULL,
    lost     INTEGER NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
ALTER TABLE outlet ADD COLUMN counted_since TEXT;
",
    "
CREATE TABLE proof (
    topology   TEXT NOT NULL,
    name       TEXT NOT NULL,
    table_name TEXT NOT NULL,
    kind       TEXT NOT NULL,
    thing      TEXT NOT NULL,
    ids        TEXT NOT NULL,
    first_made INTEGER,
    last_made  INTEGER,
    seen       INTEGER NOT NULL,
    standing   TEXT NOT NULL,
    lost       INTEGER NOT NULL,
    told       TEXT NOT NULL,
    document   TEXT NOT NULL,
    PRIMARY KEY (topology, name)
) WITHOUT ROWID;
CREATE INDEX proof_by_time ON proof (topology, last_made);
",
];
