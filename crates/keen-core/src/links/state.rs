//! The state of one link that its receiver knows of.

use std::time::Duration;

use super::match_links::{SourcedInflow, seen, snapshot};
use super::{Lateness, LinkFlow, LinkState, Looks, Trend, holder_text, trouble_text};
use crate::observe::links::{Baseline, Inflow, InflowMark, LinkSnapshot, Micros, Outlet, SlotAnew};
use crate::observe::node::{ReplicationKind, WorkerState, skip_nothing};
use crate::observe::position::Position;
use crate::topology::{NodeId, Topology};
use crate::value::calendar::timestamp_text;

/// A link as both ends tell of it at both looks.
struct TwoEnds<'a> {
    topology: &'a Topology,
    from: NodeId,
    to: NodeId,
    inflow: &'a Inflow,
    outlet: Option<&'a Outlet>,
    source: &'a LinkSnapshot,
    /// Of the inflow at the first look; nothing if it was not there.
    earlier: Option<&'a InflowMark>,
    /// How far the source's log had come at the first look.
    mark: Option<Position>,
    /// How far it has come now.
    written: Option<Position>,
    /// How far the receiver had applied it at the first look.
    applied_before: Option<Position>,
    /// How far it has now.
    applied: Option<Position>,
    /// Up to where the log had been sent at the first look.
    sent_before: Option<&'a Position>,
    /// Whether the source wrote to the tables of the sets between the looks, if it tells.
    source_wrote: Option<bool>,
    /// From the first look to the second.
    between: Duration,
    /// How late it is on purpose.
    delay: Option<Duration>,
    /// The earliest moment at which the source was seen to have what the receiver still lacks.
    lacked_since: Option<Micros>,
    /// Until when at least it had everything that its source had written, as earlier runs saw it.
    had_until: Option<Micros>,
    now: Micros,
}

pub(super) fn decide(topology: &Topology, looks: Looks<'_>, known: &SourcedInflow<'_>) -> LinkFlow {
    let (from, to) = (known.from.unwrap_or(known.to), known.to);
    let inflow = known.inflow;
    let mut link = LinkFlow {
        from: known.from,
        to: Some(to),
        name: Some(inflow.link.name.clone()),
        means: Some(inflow.link.means),
        tables: Vec::new(),
        state: LinkState::Dark,
        reason: String::new(),
        gap: None,
        late: None,
        delay: None,
        trend: None,
        seen: seen(looks, known.from, Some(to)),
        written: None,
        applied: None,
        moved: false,
        heartbeat: false,
        inflow: Some(Box::new(inflow.clone())),
        next: None,
        first_owed: None,
        first_unread: None,
    };
    let (Some(source), Some(receiver)) = (snapshot(looks, from), snapshot(looks, to)) else {
        return link;
    };
    let case = TwoEnds::new(topology, looks, (from, to), known, (source, receiver));
    link.written.clone_from(&case.written);
    link.applied.clone_from(&case.applied);
    link.delay = case.delay;
    link.gap = case.applied.as_ref().zip(case.written.as_ref()).and_then(|(a, w)| a.lacks(w));
    link.moved = case.moved();
    link.heartbeat =
        case.earlier.is_some_and(|earlier| inflow.heartbeats != earlier.heartbeats) || link.moved;
    link.trend = case.trend();
    link.late = case.late();
    let decided = case.stopped().unwrap_or_else(|| case.running());
    link.state = decided.state;
    link.reason = decided.reason;
    link.next = decided.next.map(|next| (Some(to), next));
    if decided.at_source {
        link.next = link.next.map(|(_, next)| (Some(from), next));
    }
    let slot = known.outlet.map(|outlet| (from, outlet.slot.name.clone()));
    if let Some((slot, anew)) =
        slot.and_then(|slot| Some((slot.1.clone(), looks.memory.anew.get(&slot)?)))
    {
        made_anew(&mut link, (topology, from, to), &slot, anew);
    }
    if link.state.is_well() {
        if link.applied.as_ref().zip(link.written.as_ref()).is_some_and(|(a, w)| a.has(w)) {
            link.late = None;
        }
        link.trend = link.trend.filter(|_| link.late.is_some());
    }
    link
}

/// A slot that was dropped and made anew begins where the log then was: what was written before, and not sent yet,
/// never comes.
fn made_anew(
    link: &mut LinkFlow,
    (topology, from, to): (&Topology, NodeId, NodeId),
    slot: &str,
    anew: &SlotAnew,
) {
    let (source, receiver) = (&topology.nodes[from].name, &topology.nodes[to].name);
    let when = |at: Micros| {
        let text = timestamp_text(at);
        text.split('.').next().unwrap_or(&text).to_owned()
    };
    let between = format!("between {} and {} UTC", when(anew.seen), when(anew.found));
    if !anew.certain {
        link.reason.push_str(&format!(
            "; its slot {slot} may have been created again {between}: its counters started from zero, as they also do after a reset or a crash"
        ));
        return;
    }
    if link.state.is_well() || link.state == LinkState::Trailing {
        link.state = LinkState::Broken;
        link.reason = format!(
            "its slot {slot} was created again {between}: what {source} wrote after {} and before the new slot begins does not reach {receiver} over it, unless its tables have been copied again since",
            anew.before
        );
        link.next = Some((
            None,
            "keen audit shows what is missing, and keen plan what to insert; this is shown until a full audit finds that all agree".to_owned(),
        ));
    }
}

/// A state and why.
struct Decided {
    state: LinkState,
    reason: String,
    next: Option<String>,
    /// The next thing is to be done at the source.
    at_source: bool,
}

impl Decided {
    fn new(state: LinkState, reason: impl Into<String>) -> Self {
        Self { state, reason: reason.into(), next: None, at_source: false }
    }

    fn next(mut self, next: impl Into<String>) -> Self {
        self.next = Some(next.into());
        self
    }
}

impl<'a> TwoEnds<'a> {
    fn new(
        topology: &'a Topology,
        looks: Looks<'a>,
        (from, to): (NodeId, NodeId),
        known: &SourcedInflow<'a>,
        (source, receiver): (&'a LinkSnapshot, &'a LinkSnapshot),
    ) -> Self {
        let inflow = known.inflow;
        let (then_source, then): (Option<&Baseline>, Option<&Baseline>) =
            (looks.before.get(&from), looks.before.get(&to));
        let earlier = then.and_then(|mark| mark.inflows.get(&inflow.link.name));
        // Of its own writes the receiver needs to be sent nothing.
        let needs = |position: &Position| match receiver.domain {
            Some(own) if source.domain != Some(own) => position.clone().without_domain(own),
            _ => position.clone(),
        };
        let counted_there = inflow.link.means.source_counts();
        let slot = known.outlet.map(|outlet| &outlet.slot.name);
        let applied_before = if counted_there {
            slot.and_then(|slot| then_source?.outlets.get(slot))
                .map(|(confirmed, _)| confirmed.clone())
        } else {
            earlier.and_then(|earlier| earlier.applied.as_ref()).map(needs)
        };
        let applied = if counted_there {
            known.outlet.and_then(|outlet| outlet.confirmed.clone())
        } else {
            inflow.applied.as_ref().map(needs)
        };
        // What is not safe on the source's disk is sent to nobody, and what stays so is no commit.
        let sent_at_most = |position: Position| match &source.flushed {
            Some(flushed) if position.has(flushed) => flushed.clone(),
            _ => position,
        };
        // Nor is the beginning of a record that is not whole.
        let whole = known.outlet.filter(|outlet| {
            counted_there && source.flushed.as_ref().is_some_and(|f| outlet.rests_in_a_record(f))
        });
        let whole = whole.and_then(|outlet| outlet.confirmed.as_ref());
        let owed = |position: Position| match (sent_at_most(position), whole) {
            (position, Some(whole)) if position.has(whole) => whole.clone(),
            (position, _) => position,
        };
        let written = source.position.as_ref().ok().map(needs).map(owed);
        let mark = then_source.and_then(|mark| mark.position.as_ref()).map(needs).map(owed);
        let at = |node: NodeId| looks.now.get(&node).map_or(0, |observation| observation.at);
        let since = then_source.zip(then).map_or(at(to), |(a, b)| a.at.max(b.at));
        let declared = topology.links.iter().filter(|l| (l.from, l.to) == (from, to));
        let carries: Vec<&String> = declared
            .clone()
            .flat_map(|link| &link.carries)
            .flat_map(|set| &topology.sets[*set].tables)
            .collect();
        // A log of bytes also moves when nothing is written that anybody would be sent, and a journal
        // when something is that this link does not carry.
        let noisy = !matches!(source.position, Ok(Position::Gtid(_))) && !source.touched.is_empty();
        let source_wrote = then_source.filter(|_| noisy).map(|mark| {
            source.touched.iter().any(|(table, touched)| {
                carries.contains(&table) && mark.touched.get(table) != Some(&touched.count)
            })
        });
        // What came there from elsewhere is not passed on by a link that takes its source's own writes.
        let prepared = known.outlet.and_then(|outlet| {
            let (_, before) = then_source?.outlets.get(&outlet.slot.name)?;
            Some(outlet.prepared? != (*before)?)
        });
        let source_wrote = source_wrote.map(|wrote| wrote && prepared != Some(false));
        let lacked = |(_, position): &&(Micros, Position)| {
            applied.as_ref().is_some_and(|applied| !applied.has(&needs(position)))
        };
        let remembered = looks.memory.positions.get(&from).into_iter().flatten();
        let lacked_since = remembered.clone().filter(lacked).map(|(at, _)| *at).min();
        let had_until = remembered.filter(|mark| !lacked(mark)).map(|(at, _)| *at).max();
        Self {
            topology,
            from,
            to,
            inflow,
            outlet: known.outlet,
            source,
            earlier,
            sent_before: slot.and_then(|slot| then_source?.sent.get(slot)),
            source_wrote,
            mark,
            written,
            applied_before,
            applied,
            between: micros(at(to).saturating_sub(since)),
            delay: declared.map(|link| link.delay).max().flatten().or(inflow.link.delay),
            lacked_since,
            had_until,
            now: at(to),
        }
    }

    fn name(&self, node: NodeId) -> &'a str {
        &self.topology.nodes[node].name
    }

    fn moved(&self) -> bool {
        match (&self.applied_before, &self.applied) {
            (Some(before), Some(now)) => before != now,
            _ => false,
        }
    }

    /// Whether the receiver has everything that the source had at the first look.
    fn passed(&self) -> Option<bool> {
        Some(self.applied.as_ref()?.has(self.mark.as_ref()?))
    }

    fn late(&self) -> Option<Lateness> {
        let behind = self.applied.as_ref().zip(self.written.as_ref());
        let behind = behind.is_some_and(|(applied, written)| !applied.has(written));
        if !behind {
            return None;
        }
        let remembered = self.lacked_since.map(|at| micros(self.now.saturating_sub(at)));
        let least = remembered.max((self.passed() == Some(false)).then_some(self.between));
        // Engines tell the age of what they apply at this moment: at rest it says nothing.
        let told = self.inflow.late.filter(|late| !late.is_zero());
        // A standby tells the age of what it replayed last, which on a primary that rests is from long before
        // the first change that it lacks.
        let had = self.had_until.map(|at| micros(self.now.saturating_sub(at)));
        let told = told.filter(|told| {
            self.inflow.link.means != ReplicationKind::Streaming
                || had.is_some_and(|had| *told <= had)
        });
        let late = match (told, least) {
            (Some(told), Some(least)) if told >= least => Lateness { by: told, at_least: false },
            (Some(told), None) => Lateness { by: told, at_least: false },
            (_, Some(least)) => Lateness { by: least, at_least: true },
            (None, None) => return None,
        };
        let by = late.by.saturating_sub(self.delay.unwrap_or_default());
        (!by.is_zero()).then_some(Lateness { by, ..late })
    }

    fn trend(&self) -> Option<Trend> {
        let before = self.applied_before.as_ref()?.lacks(self.mark.as_ref()?)?.size();
        let now = self.applied.as_ref()?.lacks(self.written.as_ref()?)?.size();
        if now == 0 || self.between.is_zero() {
            return None;
        }
        Some(match now.cmp(&before) {
            std::cmp::Ordering::Greater => Trend::Growing,
            std::cmp::Ordering::Equal => Trend::Steady,
            std::cmp::Ordering::Less => {
                #[expect(clippy::cast_precision_loss, reason = "an estimate")]
                let times = now as f64 / (before - now) as f64;
                let seconds = (self.between.as_secs_f64() * times).min(1e9);
                Trend::Draining(Duration::from_secs_f64(seconds))
            }
        })
    }

    /// The state of a link that does not run.
    fn stopped(&self) -> Option<Decided> {
        match self.inflow.link.means {
            ReplicationKind::BinaryLog => self.connection_stopped(),
            ReplicationKind::Subscription | ReplicationKind::Pglogical => {
                self.subscription_stopped()
            }
            ReplicationKind::Streaming => self.standby_stopped(),
            ReplicationKind::StandIn => self.stand_in_stopped(),
        }
    }

    fn connection_stopped(&self) -> Option<Decided> {
        let link = &self.inflow.link;
        let name = link.name.replace('\'', "''");
        let trouble = self.inflow.trouble.as_ref();
        let at = trouble.and_then(|t| t.at.as_ref()).map(|at| format!(", at {at}"));
        let at = at.unwrap_or_default();
        let start = link.starting().join("; ");
        let skips = match link.skips.filter(|_| link.applying == WorkerState::Stopped) {
            None | Some(0) => String::new(),
            Some(1) => "; if it is just started, it skips the first transaction (Skip_Counter 1)"
                .to_owned(),
            Some(more) => format!(
                "; if it is just started, it skips {more} transactions (Skip_Counter {more})"
            ),
        };
        match (link.receiving, link.applying, trouble) {
            (_, WorkerState::Stopped, Some(trouble)) => Some(
                Decided::new(
                    LinkState::Broken,
                    format!("the applier stopped{at}: {}{skips}", trouble_text(trouble)),
                )
                .next(stopped_at_a_row(trouble.code, self.name(self.to), &start)),
            ),
            (WorkerState::Stopped, _, Some(trouble)) => {
                let gone = trouble.code == Some(1236);
                let next = if gone {
                    format!(
                        "it cannot continue from its log: keen preflight --join {} --from {} says how to seed it again",
                        self.name(self.to),
                        self.name(self.from)
                    )
                } else {
                    format!("fix the cause, then {start}")
                };
                let reason = format!("the receiver stopped: {}", trouble_text(trouble));
                Some(Decided::new(LinkState::Broken, reason).next(next))
            }
            (WorkerState::Stopped, WorkerState::Stopped, None) => {
                let reason = format!("both receiving and applying are switched off{skips}");
                Some(Decided::new(LinkState::Paused, reason).next(start))
            }
            (WorkerState::Stopped, _, None) => {
                Some(Decided::new(LinkState::Paused, "receiving is switched off").next(start))
            }
            (_, WorkerState::Stopped, None) => {
                let reason = format!("applying is switched off; it still receives{skips}");
                Some(Decided::new(LinkState::Paused, reason).next(start))
            }
            (WorkerState::Tries, _, trouble) => {
                let every = self.inflow.retries_every;
                let every = every.map(|every| format!(", and tries again every {}", spoken(every)));
                let said = trouble.map_or("it does not say why".to_owned(), trouble_text);
                let reason = format!(
                    "{} does not reach {}{}: {said}",
                    self.name(self.to),
                    self.name(self.from),
                    every.unwrap_or_default()
                );
                let next = match trouble.and_then(|trouble| trouble.code) {
                    Some(1045) => {
                        format!(
                            "give it the right password: STOP SLAVE '{name}'; CHANGE MASTER '{name}' TO MASTER_PASSWORD = ...; {}; START SLAVE '{name}'",
                            skip_nothing(&link.name)
                        )
                    }
                    _ => format!(
                        "check the path from {} to {}: address, port, firewall",
                        self.name(self.to),
                        self.name(self.from)
                    ),
                };
                Some(Decided::new(LinkState::Cut, reason).next(next))
            }
            _ => None,
        }
    }

    fn subscription_stopped(&self) -> Option<Decided> {
        let link = &self.inflow.link;
        let name = format!("\"{}\"", link.name.replace('"', "\"\""));
        let enable = match link.means {
            ReplicationKind::Pglogical => format!(
                "SELECT pglogical.alter_subscription_enable('{}', true)",
                link.name.replace('\'', "''")
            ),
            _ => format!("ALTER SUBSCRIPTION {name} ENABLE"),
        };
        let logged = format!("read the message in {}'s server log", self.name(self.to));
        let slot = link.source.slot.as_deref().unwrap_or(&link.name);
        if self.outlet.is_none() && self.source.outlets.is_ok() && link.source.slot.is_some() {
            let reason = format!("slot {slot} no longer exists on {}", self.name(self.from));
            return Some(Decided::new(LinkState::Broken, reason).next(self.reseed()));
        }
        let log = self.outlet.and_then(|outlet| outlet.slot.log.as_deref());
        if log == Some("lost") {
            let reason =
                format!("the log that slot {slot} needs is gone from {}", self.name(self.from));
            return Some(Decided::new(LinkState::Broken, reason).next(self.reseed()));
        }
        let at = self.outlet.and_then(|outlet| outlet.confirmed.as_ref());
        let at = at.map(|at| format!(" at the write after {at}")).unwrap_or_default();
        if link.receiving == WorkerState::Stopped {
            let applied = link.failures.unwrap_or(0) > 0;
            let copying = !applied && self.inflow.copy_failures.unwrap_or(0) > 0;
            return Some(if link.error.is_some() && copying {
                Decided::new(LinkState::Broken, "it disabled itself on an error of an initial copy")
                    .next(format!("{logged}: it names the table and the reason"))
            } else if link.error.is_some() {
                Decided::new(LinkState::Broken, format!("it disabled itself on an error{at}"))
                    .next(format!("keen plan shows the row and what makes way for the waiting write, if it can read {}'s journal; if not, {logged}. {enable} alone stops there again; skipping the transaction loses everything in it", self.name(self.from)))
            } else {
                Decided::new(LinkState::Paused, "the subscription is disabled").next(enable)
            });
        }
        let failed = link.failures.zip(self.earlier.and_then(|earlier| earlier.failures));
        let failed = failed.map_or(0, |(now, before)| now.saturating_sub(before));
        if failed > 0 {
            let times = if failed == 1 { "once".to_owned() } else { format!("{failed} times") };
            let reason = format!("it failed {times} in {}{at}", seconds(self.between));
            return Some(
                Decided::new(LinkState::Broken, reason)
                    .next(format!("keen plan shows the row and what makes way for the waiting write, if it can read {}'s journal; if not, {logged}", self.name(self.from))),
            );
        }
        if link.receiving == WorkerState::Tries && link.failures.is_none() {
            let reason = format!(
                "its worker is down{at}: it failed on a row, or does not reach {}",
                self.name(self.from)
            );
            // It gives up after a few tries, and begins again only when it is switched on.
            let again = match link.means {
                ReplicationKind::Pglogical => {
                    let off = enable.replace("_enable(", "_disable(");
                    format!(
                        ". Once that is fixed, on {}, each on its own: {off} and {enable}",
                        self.name(self.to)
                    )
                }
                _ => String::new(),
            };
            return Some(
                Decided::new(LinkState::Cut, reason)
                    .next(format!("{logged}: it says which of the two{again}")),
            );
        }
        if link.receiving == WorkerState::Tries {
            let reason = format!(
                "no worker is connected to {}, and none failed on a row",
                self.name(self.from)
            );
            return Some(Decided::new(LinkState::Cut, reason).next(format!(
                "{logged}; look at CONNECTION of {name}: address, account, password, pg_hba.conf"
            )));
        }
        None
    }

    fn standby_stopped(&self) -> Option<Decided> {
        let link = &self.inflow.link;
        if link.applying == WorkerState::Stopped {
            return Some(
                Decided::new(LinkState::Paused, "replay is paused")
                    .next("SELECT pg_wal_replay_resume()"),
            );
        }
        (link.receiving == WorkerState::Tries).then(|| {
            Decided::new(
                LinkState::Cut,
                format!("{} receives nothing from {}", self.name(self.to), self.name(self.from)),
            )
            .next("read its server log; check primary_conninfo, and whether the log it needs still exists")
        })
    }

    fn stand_in_stopped(&self) -> Option<Decided> {
        let link = &self.inflow.link;
        if link.receiving == WorkerState::Tries {
            let reason = format!("{} does not reach {}", self.name(self.to), self.name(self.from));
            return Some(Decided::new(LinkState::Cut, reason).next("fix the path between them"));
        }
        (link.applying == WorkerState::Stopped).then(|| {
            Decided::new(LinkState::Paused, "it is switched off").next("switch it on again")
        })
    }

    /// How to begin anew where a log is gone.
    fn reseed(&self) -> String {
        format!(
            "it cannot continue: keen preflight --join {} --from {} says how to seed it again",
            self.name(self.to),
            self.name(self.from)
        )
    }

    /// The state of a link that runs.
    fn running(&self) -> Decided {
        let Some(passed) = self.passed() else {
            let why = match (&self.source.position, self.applied.is_some()) {
                (Err(fault), _) => fault.what.clone(),
                (Ok(_), false) => "it does not report how far it has applied".to_owned(),
                (Ok(_), true) => "it did not exist at the first look".to_owned(),
            };
            return Decided::new(LinkState::Dark, why);
        };
        let caught_up =
            self.applied.as_ref().zip(self.written.as_ref()).is_some_and(|(a, w)| a.has(w));
        let wrote = self.source_wrote.unwrap_or(self.mark != self.written);
        if passed {
            return if wrote || (self.moved() && self.source_wrote.is_none()) {
                Decided::new(
                    LinkState::Flowing,
                    if caught_up { "applied as it is written" } else { "just behind" },
                )
            } else {
                Decided::new(LinkState::Idle, "nothing new to carry")
            };
        }
        if let Some(left) = self.inflow.waits_on_purpose {
            let delay = self.delay.map(|delay| format!("{} ", spoken(delay))).unwrap_or_default();
            let next = match left.is_zero() {
                true => String::new(), // when, it does not tell
                false => format!(", the next change in {}", spoken(left)),
            };
            return Decided::new(LinkState::Flowing, format!("{delay}late on purpose{next}"));
        }
        if let Some(wait) = &self.inflow.wait {
            let holders = match &wait.holders {
                Ok(holders) if holders.is_empty() => {
                    ", and the holder could not be seen".to_owned()
                }
                Ok(holders) => {
                    let holders: Vec<String> = holders.iter().map(holder_text).collect();
                    format!(", held by {}", holders.join(" and "))
                }
                Err(fault) => format!("; its holder cannot be seen: {}", fault.what),
            };
            let decided =
                Decided::new(LinkState::Stalled, format!("waits for {}{holders}", wait.what));
            return match wait.holders.as_ref().map(|holders| holders.first()) {
                Ok(Some(holder)) => decided.next(self.end_session(holder.session)),
                _ => decided.next("find the session that holds it, and let it finish or end it"),
            };
        }
        let late = self.late();
        // Of a copy that is late on purpose only what goes beyond that counts.
        let excess = late.map_or(Duration::ZERO, |late| late.by);
        if self.delay.is_some() && excess <= self.topology.limits.trailing && !self.moved() {
            let delay = self.delay.unwrap_or_default();
            return Decided::new(
                LinkState::Flowing,
                format!("{} late by configuration", spoken(delay)),
            );
        }
        let works = self.moved() || self.works();
        let limits = self.topology.limits;
        if works && excess <= limits.trailing && !self.will_take_longer_than(limits.trailing) {
            return Decided::new(LinkState::Flowing, "behind by less than the limit");
        }
        if self.moved() || self.sends() || (works && excess <= limits.stalled) {
            let how = match self.trend() {
                Some(Trend::Draining(_)) => "it is catching up",
                Some(Trend::Growing) => "it is falling further behind",
                _ if self.moved() => "it stays as far behind",
                _ if self.sends() => "its sender is working on the log",
                _ => "it is working on one transaction",
            };
            let next = match self.trend() {
                Some(Trend::Draining(_)) => {
                    "wait for it; if that takes too long, check what the applier spends its time on"
                }
                _ => {
                    "check what the applier spends its time on: its machine, long transactions, tables without a key"
                }
            };
            return Decided::new(LinkState::Trailing, how).next(next);
        }
        let doing = self.inflow.doing.as_deref().filter(|doing| !doing.is_empty());
        let doing = doing.map(|doing| format!("; the applier says: {doing}"));
        let doing = self.where_it_rests().or(doing).unwrap_or_default();
        Decided::new(
            LinkState::Stalled,
            format!("nothing was applied in {}{doing}", seconds(self.between)),
        )
        .next("check its machine, its log, and what its applier is doing")
    }

    /// Where nothing tells the age of what is missing, the time that it takes at the rate at which it is
    /// applied stands for it.
    fn will_take_longer_than(&self, limit: Duration) -> bool {
        if self.late().is_some_and(|late| !late.at_least) {
            return false;
        }
        let size = |from: Option<&Position>, to: Option<&Position>| Some(from?.lacks(to?)?.size());
        let left = size(self.applied.as_ref(), self.written.as_ref());
        let done = size(self.applied_before.as_ref(), self.applied.as_ref());
        match (left, done) {
            #[expect(clippy::cast_precision_loss, reason = "an estimate")]
            (Some(left), Some(done @ 1..)) => {
                self.between.as_secs_f64() * left as f64 / done as f64 > limit.as_secs_f64()
            }
            _ => false,
        }
    }

    /// Whether it was seen at work though nothing was finished.
    fn works(&self) -> bool {
        self.inflow.busy
            || self.earlier.is_some_and(|earlier| earlier.progress != self.inflow.progress)
            || self.sends()
    }

    /// Whether its sender moved between the looks: one that reads through a large transaction has
    /// nothing to be confirmed yet.
    fn sends(&self) -> bool {
        self.outlet
            .and_then(|outlet| outlet.sent.as_ref().zip(self.sent_before))
            .is_some_and(|(now, before)| now != before)
    }

    /// On which side what is missing lies.
    fn where_it_rests(&self) -> Option<String> {
        let sent = self.outlet?.sent.as_ref()?;
        let source = self.name(self.from);
        Some(if sent.has(self.mark.as_ref()?) {
            format!("; {source} has sent it, but {} does not confirm it", self.name(self.to))
        } else {
            format!("; {source} has not sent it: its sender does not move")
        })
    }

    fn end_session(&self, session: u64) -> String {
        match self.inflow.link.means {
            ReplicationKind::BinaryLog => format!("let it finish, or: KILL {session}"),
            _ => format!("let it finish, or: SELECT pg_terminate_backend({session})"),
        }
    }
}

/// The obstacle of a link that stopped at a row, and the loss that each way out would bring. There is no command that
/// is right without knowing both rows.
pub(crate) fn stopped_at_a_row(code: Option<u64>, receiver: &str, start: &str) -> String {
    match code {
        Some(1062) => format!(
            "the waiting write inserts a row whose key, or unique value, {receiver} holds already, and both may be real. keen plan shows both and what makes way for it; {start} alone stops here again"
        ),
        Some(1032) => format!(
            "the waiting write changes or deletes a row that {receiver} does not hold. keen plan puts it there as it was before that write; {start} alone stops here again, and skipping the write leaves the row missing for good"
        ),
        _ => format!(
            "fix what the message says; {start} alone stops here again, and skipping the write loses it on {receiver}"
        ),
    }
}

fn micros(micros: Micros) -> Duration {
    Duration::from_micros(u64::try_from(micros).unwrap_or(0))
}

/// A time between two looks, as it reads in a sentence.
fn seconds(time: Duration) -> String {
    format!("{:.1} s", time.as_secs_f64())
}

/// A time as one says it: "1h", "59m 58s".
fn spoken(time: Duration) -> String {
    let whole =
        if time < Duration::from_secs(1) { time } else { Duration::from_secs(time.as_secs()) };
    humantime::format_duration(whole).to_string()
}
