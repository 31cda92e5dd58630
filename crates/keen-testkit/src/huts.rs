//! The tables of the refuge huts, as each kind of server declares them.

use crate::ServerFault;
use crate::instance::Server;

/// Guests and their stays: what peers write.
///
/// # Errors
/// [`ServerFault`] when the server refuses.
pub fn tables(on: &Server) -> Result<(), ServerFault> {
    let (stamp, text, flag) = if on.engine().is_postgres() {
        ("timestamptz", "text", "boolean")
    } else {
        ("timestamp(6) NULL", "varchar(200)", "boolean")
    };
    on.run(&format!(
        "CREATE TABLE guest (id bigint PRIMARY KEY, name {text} NOT NULL, member {flag} NOT NULL);\n\
         CREATE TABLE stay (id bigint PRIMARY KEY, guest_id bigint NOT NULL, hut {text} NOT NULL, beds integer NOT NULL, \
         price numeric(8,2) NOT NULL, arrives date NOT NULL, booked_at {stamp});\n\
         CREATE TABLE trail_notice (id bigint PRIMARY KEY, hut {text} NOT NULL, body {text} NOT NULL, published integer NOT NULL, \
         draft_note {text});\n"
    ))
}

/// The first rows, the same wherever they are written.
///
/// # Errors
/// [`ServerFault`] when the server refuses.
pub fn rows(on: &Server) -> Result<(), ServerFault> {
    on.run(
        "INSERT INTO guest VALUES (1, 'Ida Marmot', true), (2, 'Anton O''Ridge', false), (3, 'Łucja Żleb', true);\n\
         INSERT INTO stay VALUES (1, 1, 'Saddle Refuge', 2, 84.00, '2026-07-01', '2026-05-02 07:31:00'), \
         (2, 2, 'Cirque Hut', 1, 42.50, '2026-07-03', '2026-05-02 18:05:12.25'), \
         (3, 3, 'Saddle Refuge', 4, 168.00, '2026-07-04', NULL);\n\
         INSERT INTO trail_notice VALUES (1, 'Cirque Hut', 'Snow bridge gone below the col', 1, 'ask the warden'), \
         (2, 'Saddle Refuge', 'Spring dry until autumn', 0, NULL), (3, 'Saddle Refuge', 'Ladder replaced', 1, NULL);\n",
    )
}
