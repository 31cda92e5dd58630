//! The links as their receivers keep them: whoever changes what is kept there changes what the replicator does.

use keen_core::topology::NodeId;
use rusqlite::{Connection, OptionalExtension as _, params};

use super::{Lab, LabError, LinkRun, PER_STEP, StandInState, sqlite};

impl LinkRun {
    /// A link that runs from the beginning of its source's journal, and carries nothing yet.
    pub(super) fn begin(from: NodeId, to: NodeId, number: i64) -> Self {
        Self {
            from,
            to,
            number,
            carries: Vec::new(),
            read_to: 0,
            state: StandInState::Running,
            delay_steps: 0,
            stuck: false,
            detached: false,
            per_step: PER_STEP,
            held: Vec::new(),
        }
    }
}

/// A link as its receiver keeps it.
struct KeptLink {
    number: i64,
    source: String,
    carries: Vec<String>,
    read_to: i64,
    state: StandInState,
}

impl Lab {
    /// Takes up what was changed at the receivers: links that were made, switched or taken away.
    pub(super) fn take_up_links(&mut self) -> Result<(), LabError> {
        for to in 0..self.topology.nodes.len() {
            let kept = kept_links(&self.connections[to])
                .map_err(|error| sqlite(&self.topology.nodes[to].name, error))?;
            self.links.retain(|run| {
                run.to != to || run.detached || kept.iter().any(|kept| kept.number == run.number)
            });
            for KeptLink { number, source, carries, read_to, state } in kept {
                let known = self.links.iter_mut().find(|run| (run.to, run.number) == (to, number));
                if let Some(run) = known {
                    (run.state, run.detached) = (state, false);
                    continue;
                }
                let from = self.id(&source)?;
                let unknown = |set| LabError::Unknown(format!("set {set}"));
                let set = |name: String| {
                    let known = self.topology.sets.iter().position(|set| set.name == name);
                    known.ok_or_else(|| unknown(name))
                };
                let carries = carries.into_iter().map(set).collect::<Result<_, _>>()?;
                let run = LinkRun { carries, read_to, state, ..LinkRun::begin(from, to, number) };
                self.links.push(run);
            }
        }
        Ok(())
    }

    /// Keeps a link where its receiver can be asked for it.
    pub(super) fn note_link(&self, link: usize) -> Result<(), LabError> {
        let run = &self.links[link];
        let sets = run.carries.iter().map(|set| &self.topology.sets[*set].name[..]);
        let carries = serde_json::Value::from_iter(sets).to_string();
        self.connections[run.to]
            .execute(
                "INSERT INTO keen_lab_link (link, source, carries, read_to, state, since_step)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6) ON CONFLICT (link) DO UPDATE SET
                 read_to = excluded.read_to,
                 since_step = iif(state = excluded.state, since_step, excluded.since_step),
                 state = excluded.state",
                params![
                    run.number,
                    self.topology.nodes[run.from].name,
                    carries,
                    run.read_to,
                    run.state.name(),
                    self.step
                ],
            )
            .map(drop)
            .map_err(|error| sqlite(&self.topology.nodes[run.to].name, error))
    }
}

/// Notes in the transaction that applies something how far the link has read. False if it does not run any more: then
/// nothing of it may be applied.
pub(super) fn still_runs(
    receiver: &Connection,
    number: i64,
    read_to: i64,
) -> rusqlite::Result<bool> {
    let sql = "UPDATE keen_lab_link SET read_to = ?2 WHERE link = ?1 AND state = 'running'";
    Ok(receiver.prepare_cached(sql)?.execute(params![number, read_to])? == 1)
}

fn kept_links(receiver: &Connection) -> rusqlite::Result<Vec<KeptLink>> {
    let sql = "SELECT link, source, carries, read_to, state FROM keen_lab_link ORDER BY link";
    let mut statement = receiver.prepare_cached(sql)?;
    let rows = statement.query_map([], |row| {
        let carries: String = row.get(2)?;
        let state: String = row.get(4)?;
        Ok(KeptLink {
            number: row.get(0)?,
            source: row.get(1)?,
            carries: serde_json::from_str(&carries).unwrap_or_default(),
            read_to: row.get(3)?,
            state: match &state[..] {
                "running" => StandInState::Running,
                "cut" => StandInState::Cut,
                _ => StandInState::Paused,
            },
        })
    })?;
    rows.collect()
}

/// Whether a node takes no writes of applications.
pub(super) fn is_closed(connection: &Connection) -> rusqlite::Result<bool> {
    let sql = "SELECT value FROM keen_lab_setting WHERE name = 'read_only'";
    let found: Option<String> = connection.query_row(sql, [], |row| row.get(0)).optional()?;
    Ok(found.is_some_and(|value| value.eq_ignore_ascii_case("on")))
}
