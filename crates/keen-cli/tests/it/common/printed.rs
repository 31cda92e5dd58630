//! The statements that keen prints to be run, and the tests that run them.
//!
//! `catalogue.rs` walks over the checks of the legend and over the sources: a check or a statement that stands in
//! none of these lists fails it.

/// Checks whose findings can carry a command, each with a test that runs one as it was printed. Every preflight of
/// every test is held against this list.
pub const CHECKS_WITH_COMMANDS: &[(&str, &str)] = &[
    (
        "right-missing",
        "preflight_postgres: an_account_is_told_what_it_lacks_and_what_it_has_too_much_of",
    ),
    ("same-server-id", "preflight_mariadb: servers_that_cannot_be_told_apart"),
    ("same-domain", "preflight_mariadb: servers_that_cannot_be_told_apart"),
    ("log-format", SETTINGS),
    ("log-images", SETTINGS),
    ("log-metadata", SETTINGS),
    ("errors-skipped", SETTINGS),
    ("duplicates-not-ignored", SETTINGS),
    ("log-kept-briefly", SETTINGS),
    ("log-level", "preflight_postgres: settings_that_take_a_restart"),
    ("room-for-links", "preflight_postgres: settings_that_take_a_restart"),
    ("commit-times-off", "preflight_postgres: settings_that_take_a_restart"),
    ("counters-collide", "preflight_mariadb: numbers_for_new_keys_that_would_collide"),
    (
        "not-read-only",
        "preflight_mariadb: a_healthy_mesh_ring_and_one_way_link_have_nothing_to_mend",
    ),
    ("references-off", "preflight_mariadb: settings_that_make_writes_fail_or_part_are_found"),
    ("slot-times-out", "preflight_postgres: a_server_that_gives_up_slots_is_found"),
    ("silence-noticed-late", SETTINGS),
    ("column-missing", SHAPES),
    ("column-type", SHAPES),
    ("column-null", ALIKE_POSTGRES),
    ("column-default", ALIKE_POSTGRES),
    ("column-collation", ALIKE_POSTGRES),
    (
        "column-order",
        "preflight_mariadb: columns_that_two_peers_added_at_once_are_recognised_and_put_in_order",
    ),
    ("row-identity", "preflight_postgres: a_partitioned_table_is_told_from_its_partitions"),
    (
        "updates-refused",
        "preflight_postgres: publications_that_make_the_server_refuse_updates_are_found",
    ),
    ("link-loop", "preflight_postgres: links_as_they_are_against_links_as_they_should_be"),
    ("link-down", "preflight_postgres: links_as_they_are_against_links_as_they_should_be"),
    ("table-not-carried", "advice: tables_that_peers_begin_to_carry_are_neither_doubled_nor_stuck"),
    ("carried-otherwise", "preflight_postgres: what_a_subscription_carries_against_the_sets"),
    ("relay-starved", "preflight_postgres: a_relay_that_passes_nothing_on"),
    (
        "delay-differs",
        "preflight_mariadb: a_healthy_mesh_ring_and_one_way_link_have_nothing_to_mend",
    ),
];

const SHAPES: &str = "mend_columns: columns_of_a_mariadb_mesh_are_mended_while_all_write";
const ALIKE: &str = "mend_columns: what_a_mariadb_peer_declares_otherwise_is_made_as_most_have_it";
const ALIKE_POSTGRES: &str =
    "mend_columns: what_a_postgresql_node_declares_otherwise_is_made_as_most_have_it";
const SHAPES_POSTGRES: &str =
    "mend_columns: columns_of_postgresql_peers_are_mended_while_all_write";
const APART: &str = "mend_apart: a_node_of_a_mariadb_mesh_is_taken_out_while_the_others_write";
const BY_HAND: &str = "mend_stand_in: the_printed_statements_move_the_lead_by_hand";
const LINKED_POSTGRES: &str = "mend_linking: what_would_go_round_or_begin_nowhere_is_refused";
const APART_POSTGRES: &str = "mend_apart: a_peer_of_postgresql_is_taken_out_with_all_that_is_left";
const SETUP_UNDONE: &str =
    "mend_setup: settings_and_links_of_postgresql_peers_are_mended_and_taken_back";
const SETTINGS: &str =
    "preflight_mariadb: settings_that_replication_needs_are_told_with_value_need_and_command";

/// Checks whose findings carry no command, and why not.
pub const CHECKS_WITHOUT: &[(&str, &str)] = &[
    ("unreachable", "where the node is, or what is wrong with it, keen does not know"),
    ("other-address", "which of them is right is for whoever keeps the file"),
    ("right-excess", "what else the account is for, keen does not know"),
    ("password-exposed", "it is a file on the machine that keen runs on"),
    ("tls-unverified", "the authority is for whoever keeps the file"),
    ("same-database", "which address is wrong, keen does not know"),
    ("slot-shared", "a copy has to be made anew"),
    ("port-claimed", "which service is to move, keen does not know"),
    ("log-off", "it takes a restart"),
    ("received-not-logged", "it takes a restart"),
    ("zones-differ", "applications write by it"),
    ("texts-differ", "it is a change of every table"),
    ("writer-closed", "why it was closed, keen does not know"),
    ("modes-differ", "applications rely on it"),
    ("lossy-conversion", "a link would stop at what it cut until then"),
    ("events-run", "which node is to run them, keen does not know"),
    ("clock-off", "a clock that jumps does harm of its own"),
    ("table-missing", "with which rows it is to begin, keen does not know"),
    ("table-surplus", "it may be meant so"),
    ("column-surplus", "what it holds would be lost"),
    ("column-generated", "what it holds would be lost"),
    ("key-differs", "which of them is right, keen does not know"),
    ("key-missing", "rows need numbers that are the same on all nodes"),
    ("unique-differs", "rows that are there already may break it"),
    ("reference-differs", "rows that are there already may break it"),
    ("trigger-again", "what it is for, keen does not know"),
    ("checks-differ", "rows that are there already may break it"),
    ("rolls-nothing-back", "it rewrites the table"),
    ("link-absent", "with which rows it is to begin, keen does not know"),
    ("link-one-way", "with which rows it is to begin, keen does not know"),
    ("link-stray", "it may be meant so"),
    ("source-unreached", "it is between the nodes"),
    ("slot-unread", "whoever comes back for it would lose what it has not fetched"),
    ("log-held-back", "its reader has to get on"),
    ("never-copied", "a copy over rows that are there fails, or doubles them"),
    ("leader-elsewhere", "it may have been handed over on purpose"),
    ("voters", "a member has to come"),
];

/// How a printed statement begins in the sources, and the test that runs it as it was printed.
pub const RUN: &[(&str, &str)] = &[
    // What journals need.
    (
        "SET SESSION sql_log_bin = 0;\\n{}",
        "advice: grants_name_the_account_that_logged_in_and_stay_on_their_server",
    ),
    ("GRANT SET ON PARAMETER", MENDER),
    ("GRANT EXECUTE ON FUNCTION", MENDER),
    ("GRANT CREATE, SELECT, INSERT, DELETE", MENDER),
    ("CREATE PUBLICATION {JOURNAL_SLOT}", JOURNAL),
    ("ALTER PUBLICATION {JOURNAL_SLOT} ADD TABLE", JOURNAL),
    ("ALTER PUBLICATION {JOURNAL_SLOT} SET", JOURNAL),
    ("SELECT pg_drop_replication_slot('{slot}')", JOURNAL),
    ("SELECT pg_create_logical_replication_slot", JOURNAL),
    ("ALTER ROLE {user} REPLICATION", JOURNAL),
    ("GRANT EXECUTE ON FUNCTION pg_show_replication_origin_status()", JOURNAL),
    ("-- the slot holds back log for as long as it is there", JOURNAL),
    (
        "-- the ledger has what was read up to {at}",
        "conflicts_postgres: races_are_found_with_their_kind_and_what_came_of_them",
    ),
    (
        "the slot holds what was written before the publication",
        "conflicts_postgres: a_slot_of_an_older_server_that_was_there_before_its_publication",
    ),
    // The probe and the heartbeat.
    ("a row of the run of {began}", "probe: on_a_mesh_every_write_arrives_and_nothing_stays"),
    (
        "CREATE TABLE IF NOT EXISTS {name} (id {text}",
        "probe: on_a_mesh_every_write_arrives_and_nothing_stays",
    ),
    (
        "SET SESSION sql_log_bin = 0; GRANT SELECT, INSERT, UPDATE, DELETE",
        "probe: on_a_mesh_every_write_arrives_and_nothing_stays",
    ),
    (
        "GRANT SELECT, INSERT, UPDATE, DELETE ON {name}",
        "probe: postgresql_peers_are_probed_and_waited_for",
    ),
    (
        "CREATE TABLE IF NOT EXISTS {name} (node {text}",
        "flow_mariadb: between_unlike_servers_heartbeats_tell_whether_anything_arrives",
    ),
    // Links.
    (
        "ALTER SUBSCRIPTION {} ENABLE",
        "stopped: a_subscription_of_postgres_goes_on_behind_a_row_and_the_rest_is_judged",
    ),
    (
        "ALTER SUBSCRIPTION {name} ENABLE",
        "flow_postgres: what_fails_at_a_row_is_broken_and_what_is_disabled_is_paused",
    ),
    (
        "ALTER SUBSCRIPTION {} {word}",
        "preflight_postgres: links_as_they_are_against_links_as_they_should_be",
    ),
    (
        "SELECT pglogical.alter_subscription_enable",
        "flow_postgres: subscriptions_of_pglogical_are_looked_at_too",
    ),
    (
        "SELECT pg_wal_replay_resume()",
        "flow_postgres: a_standby_is_told_from_one_that_was_promoted",
    ),
    (
        "let it finish, or: KILL",
        "flow_mariadb: locks_stall_and_their_holders_are_named_where_the_account_may_see_them",
    ),
    (
        "let it finish, or: SELECT pg_terminate_backend",
        "flow_postgres: an_applier_that_waits_or_stands_still_is_stalled",
    ),
    (
        "when nobody comes back for it",
        "preflight_postgres: links_as_they_are_against_links_as_they_should_be",
    ),
    (
        "START SLAVE {}",
        "flow_mariadb: a_connection_that_would_leave_out_a_transaction_is_told_and_started_without",
    ),
    (
        "SET SESSION default_master_connection",
        "flow_mariadb: a_connection_that_would_leave_out_a_transaction_is_told_and_started_without",
    ),
    ("CHANGE MASTER {} TO MASTER_DELAY", DELAY),
    ("CHANGE MASTER {} TO MASTER_DEMOTE_TO_SLAVE", PROMOTED),
    ("SELECT pg_promote(true, 60)", PROMOTED_STANDBY),
    ("DELETE FROM keen_lab_link", BY_HAND),
    ("INSERT INTO keen_lab_link", BY_HAND),
    ("let {} follow {name}: primary_conninfo", PROMOTED_STANDBY),
    (
        "ALTER SUBSCRIPTION {} SET (origin = {origin})",
        "preflight_postgres: a_relay_that_passes_nothing_on",
    ),
    (
        "ALTER PUBLICATION {} SET (publish",
        "preflight_postgres: what_a_subscription_carries_against_the_sets",
    ),
    (
        "ALTER PUBLICATION {} {word} TABLE",
        "preflight_postgres: what_a_subscription_carries_against_the_sets",
    ),
    (
        "ALTER SUBSCRIPTION {} REFRESH PUBLICATION{copied}",
        "advice: tables_that_peers_begin_to_carry_are_neither_doubled_nor_stuck",
    ),
    (
        "ALTER SUBSCRIPTION {name} SKIP",
        "stopped: a_subscription_of_postgres_goes_on_behind_a_row_and_the_rest_is_judged",
    ),
    (
        "SET GLOBAL gtid_slave_pos = @position",
        "stopped: a_mesh_of_mariadb_goes_on_behind_a_row_and_the_rest_is_judged",
    ),
    // Settings.
    ("SELECT pg_reload_conf()", "preflight_postgres: a_server_that_gives_up_slots_is_found"),
    ("ALTER SYSTEM SET {name}", "preflight_postgres: settings_that_take_a_restart"),
    ("ALTER SYSTEM RESET {name}", SETUP_UNDONE),
    (
        "ALTER DATABASE {database} SET {name}",
        "preflight_postgres: a_node_that_nobody_writes_is_closed_and_goes_on_receiving",
    ),
    ("ALTER DATABASE {database} RESET {name}", SETUP_UNDONE),
    ("SET GLOBAL {} = {}", SETTINGS),
    ("SET GLOBAL binlog_format = ROW, and later", SETTINGS),
    ("SET GLOBAL binlog_row_metadata = FULL, and later", SETTINGS),
    // Rights.
    (
        "GRANT {right} ON *.* TO {account}",
        "advice: grants_name_the_account_that_logged_in_and_stay_on_their_server",
    ),
    ("ALTER ROLE {} REPLICATION", JOURNAL),
    ("ALTER ROLE {role} BYPASSRLS", RIGHTS),
    ("ALTER ROLE {role} REPLICATION", RIGHTS),
    ("GRANT INSERT, UPDATE, DELETE ON {tables}", RIGHTS),
    ("GRANT USAGE ON SCHEMA {schema}", RIGHTS),
    ("GRANT pg_monitor TO {role}", RIGHTS),
    ("GRANT {rights} ON {on} TO {account}", ACCOUNT),
    ("GRANT BINLOG ADMIN ON", ACCOUNT),
    (
        "GRANT REPLICA MONITOR ON",
        "preflight_mariadb: an_account_is_told_what_it_lacks_and_what_it_has_too_much_of",
    ),
    ("GRANT {privilege} ON", ACCOUNT),
    // Tables.
    (
        "ALTER TABLE {} REPLICA IDENTITY {by}",
        "preflight_postgres: publications_that_make_the_server_refuse_updates_are_found",
    ),
    (
        "DO {mark} DECLARE part",
        "preflight_postgres: a_partitioned_table_is_told_from_its_partitions",
    ),
    ("ALTER TABLE {named} {what}", SHAPES),
    ("ALTER TABLE {table} ADD COLUMN", SHAPES_POSTGRES),
    ("ALTER TABLE {table} DROP COLUMN", SHAPES_POSTGRES),
    ("ALTER TABLE {table} {}", ALIKE_POSTGRES),
    ("SET SESSION sql_mode = CONCAT_WS", ALIKE),
    ("SET SESSION sql_log_bin = 0", SHAPES),
    ("SET SESSION sql_log_bin = 1", SHAPES),
    ("STOP SLAVE {link}", APART),
    ("RESET SLAVE {link} ALL", APART),
    ("DROP TABLE {named}", APART),
    ("ALTER SUBSCRIPTION {link} DISABLE", APART_POSTGRES),
    ("DROP PUBLICATION {}", APART_POSTGRES),
    ("CREATE PUBLICATION {} WITH", LINKED_POSTGRES),
    ("SELECT pg_replication_origin_{word}", APART_POSTGRES),
    ("CREATE SCHEMA IF NOT EXISTS", DERIVED),
    ("ALTER TABLE {place} ADD {key}", DERIVED),
    ("CREATE EXTENSION", DERIVED),
    ("CREATE TYPE", DERIVED),
    ("CREATE DOMAIN", DERIVED),
    ("CREATE COLLATION", DERIVED),
    ("CREATE TABLE {} (", DERIVED),
    // Seeding.
    ("mariadb-dump --single-transaction", SEEDED),
    (
        "psql --host {host}",
        "seeding: a_peer_of_postgres_is_seeded_from_the_other_and_nothing_is_lost_there",
    ),
    ("STOP SLAVE {}", SETTINGS),
    ("STOP ALL SLAVES", SEEDED),
    ("sqlite3 {} \\\"VACUUM INTO", "seeding: a_file_is_not_overwritten_whole"),
    ("(echo 'SET SESSION sql_log_bin = 0;'", SEEDED),
    ("mariadb --host {own_host}", SEEDED),
    ("SET @position", SEEDED),
    ("SET SESSION group_concat_max_len", SEEDED),
    ("CHANGE MASTER {} TO MASTER_HOST", SEEDED),
    ("START ALL SLAVES", SEEDED),
    ("ALTER SUBSCRIPTION {} DISABLE", SEEDED_PEER),
    ("DROP SUBSCRIPTION {}", SEEDED_PEER),
    ("DO $keen$ BEGIN", SEEDED_PEER),
    ("CREATE SUBSCRIPTION {subscription}", SEEDED_PEER),
    ("SELECT pg_replication_slot_advance({slot}", SEEDED_PEER),
    // Scripts.
    ("DO {mark}", SCRIPTS),
    ("\\\n-- Review it, then run it once in this node's database, as a superuser", SCRIPTS),
    (
        "\\\n-- Review it, then run it once in this node's database, with the right",
        "safe_plans: columns_that_follow_the_clock_stay_as_they_are",
    ),
    (
        "\\\n-- Review it, then run it once against this node's file",
        "plan: repair_makes_nodes_equal_and_undo_brings_them_back",
    ),
    (
        "COMMIT;\\nDROP TABLE temp.keen_guard",
        "plan: repair_makes_nodes_equal_and_undo_brings_them_back",
    ),
    ("COMMIT;\\nSELECT pg_replication_origin_session_reset", SCRIPTS),
    (";\\nSET @keen_ok", "safe_plans: columns_that_follow_the_clock_stay_as_they_are"),
    (
        "INSERT OR ROLLBACK INTO temp.keen_guard",
        "plan: repair_makes_nodes_equal_and_undo_brings_them_back",
    ),
    ("SET @keen_", "safe_plans: columns_that_follow_the_clock_stay_as_they_are"),
    ("\\\nSET @keen_end", "safe_plans: columns_that_follow_the_clock_stay_as_they_are"),
    ("DELETE FROM temp.keen_guard", "plan: repair_makes_nodes_equal_and_undo_brings_them_back"),
    (
        "\\n-- no reference leads nowhere that did not before",
        "plan: repair_makes_nodes_equal_and_undo_brings_them_back",
    ),
    ("UPDATE {} SET ", "round_trip: values_of_postgresql_15_come_back_as_they_were"),
    ("DELETE FROM {} WHERE ", "round_trip: values_of_postgresql_15_come_back_as_they_were"),
    ("INSERT INTO {} ({}){over} ", "round_trip: values_of_postgresql_15_come_back_as_they_were"),
    ("DELETE FROM {table} WHERE ", "plan: repair_makes_nodes_equal_and_undo_brings_them_back"),
];

const ACCOUNT: &str = "advice: grants_name_the_account_that_logged_in_and_stay_on_their_server";
const JOURNAL: &str = "conflicts_postgres: all_that_it_prints_of_its_journal_can_be_run";
const RIGHTS: &str =
    "preflight_postgres: an_account_is_told_what_it_lacks_and_what_it_has_too_much_of";
const DELAY: &str = "preflight_mariadb: a_healthy_mesh_ring_and_one_way_link_have_nothing_to_mend";
const DERIVED: &str =
    "derive: types_of_ones_own_long_keys_and_names_of_several_schemas_are_derived";
const PROMOTED_STANDBY: &str =
    "mend_promoting: a_standby_is_promoted_once_it_has_the_clean_end_of_its_primarys_log";
const PROMOTED: &str =
    "mend_promoting: the_lead_of_mariadb_is_handed_over_and_back_while_applications_write";
const SEEDED: &str = "seeding: a_node_of_a_mariadb_mesh_is_seeded_and_nothing_is_lost_in_the_mesh";
const SEEDED_PEER: &str =
    "seeding: a_peer_of_postgres_is_seeded_from_the_other_and_nothing_is_lost_there";
const MENDER: &str = "mend_servers: the_grants_that_preflight_prints_are_what_mending_takes";
const SCRIPTS: &str = "chains: what_a_relay_passes_on_is_repaired_once";

/// Texts that name a statement and cannot be run as they stand, and why.
pub const NOT_AS_IT_STANDS: &[(&str, &str)] = &[
    ("give it the right password", "the password is its owner's"),
    ("after copying the tables: CHANGE MASTER", "account and password are their owner's"),
    ("on all but one: SET GLOBAL event_scheduler", "which node is to run them is for a person"),
    (
        "STOP SLAVE '{connection}', take {table} out of that filter",
        "a filter is a list that somebody wrote",
    ),
    ("what was skipped does not come again", "the list of domains is for a person"),
    ("the account's max_statement_time", "what the account was made for is for a person"),
    ("the account's statement_timeout", "what the account was made for is for a person"),
    ("the server's data is damaged: CHECK TABLE", "it is a remark"),
    ("by hand, as keen cannot say all of how these columns are declared", "it is a remark"),
    ("declare it by hand: on {} column", "it is a remark"),
    ("grant {user} the right: GRANT SELECT", "keen preflight prints the statement itself"),
    ("GRANT USAGE ON SCHEMA {} TO {}", "keen preflight prints the statement itself"),
    ("GRANT SELECT ON {full}", "keen preflight prints the statement itself"),
    ("CREATE TABLE IF NOT EXISTS {marks}", "keen mend itself runs it: mend_servers"),
    ("INSERT INTO {marks}", "keen mend itself runs it: mend_servers"),
    ("grant {user} ALTER SYSTEM ON PARAMETER {name}", "it is a remark"),
    (
        "ALTER SUBSCRIPTION {} SKIP (lsn = NONE)",
        "keen mend itself runs it, where a transaction was not passed over: mend_setup",
    ),
    ("DELETE FROM {name}", "keen mend itself runs it: mend_seeding"),
    ("DELETE FROM {}", "keen mend itself runs it: mend_seeding"),
    (
        "CHANGE MASTER ... TO MASTER_USE_GTID = slave_pos first",
        "account and password are their owner's",
    ),
    (
        "ALTER TABLE mysql.gtid_slave_pos ENGINE = InnoDB, with its links switched off",
        "it is a table of the server's own: when it is changed is for a person",
    ),
    ("SET GLOBAL gtid_slave_pos = {}", "keen mend itself runs it: mend_seeding"),
    ("SELECT pg_drop_replication_slot(slot_name)", "keen mend itself runs it: mend_seeding"),
    ("SELECT pg_create_logical_replication_slot({slot}", "keen mend itself runs it: mend_seeding"),
    ("SELECT pg_replication_slot_advance({slot}", "keen mend itself runs it: mend_seeding"),
    (
        "CREATE SUBSCRIPTION {} CONNECTION",
        "its password is not told; keen mend runs it with that: mend_linking",
    ),
    (
        "CHANGE MASTER {} TO MASTER_HOST = {}, MASTER_PORT = {port}, MASTER_USER",
        "its password is not told; keen mend runs it with that: mend_linking",
    ),
    (
        "the log of {name} has writes that",
        "whether nobody wants them is for a person: mend_linking and mend_promoting do it",
    ),
    ("TRUNCATE", "it is the name of what was done"),
    ("CREATE EXTENSION", "it is a mark in what was derived"),
];
