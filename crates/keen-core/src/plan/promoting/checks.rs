//! Whether a lead can be handed over without a loss, as far as the nodes tell.

use std::collections::BTreeSet;

use super::{Handing, LinkAt, PromotionRequest};
use crate::observe::node::{ReplicationKind, WorkerState};
use crate::setup::Subject;
use crate::topology::{ColumnChoice, Engine, NodeId};

impl Handing<'_, '_> {
    /// Whether the lead can be handed over at all.
    pub(super) fn look(&mut self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        if self.facts(node).is_none() {
            return Err(format!("{name} could not be looked at"));
        }
        self.is_there_or_silent()?;
        let declared: BTreeSet<NodeId> =
            self.topology().links.iter().filter(|l| l.from == lead).map(|l| l.to).collect();
        for at in 0..self.found.len() {
            let (to, from, _) = &self.found[at];
            if *from == Some(lead) {
                self.receivers.push((*to, at));
            } else if from.is_none() && self.can_only_be_of_the_lead(*to) {
                let (to, label) = (*to, self.found[at].2.name.clone());
                self.receivers.push((to, at));
                self.plan.notes.push(format!(
                    "that {label} of {0} comes from {lead_name} is concluded: it is all that {0} follows, and by the file {0} follows nobody else",
                    self.name(to)
                ));
            } else if from.is_none() && declared.contains(to) {
                return Err(format!(
                    "nobody can tell where {} of {} comes from",
                    self.found[at].2.name,
                    self.name(*to)
                ));
            }
        }
        self.receivers.sort_by_key(|(to, _)| (*to != node, *to));
        for to in &declared {
            let links = self.receivers.iter().filter(|(of, _)| of == to).count();
            let receiver = self.name(*to);
            if self.facts(*to).is_none() {
                return Err(format!(
                    "{receiver} follows {lead_name}, too, and could not be looked at: come back when it can be read, or take it out of the topology file"
                ));
            }
            if links != 1 {
                return Err(format!(
                    "{receiver} follows {lead_name} by {links} links, and has to by one: keen preflight says more"
                ));
            }
        }
        for (to, at) in self.receivers.clone() {
            self.can_be_turned(to, at, declared.contains(&to))?;
        }
        if let Some((to, _, link)) = self.found.iter().find(|(_, from, _)| *from == Some(node))
            && (*to == lead || self.receivers.iter().any(|(of, _)| of == to))
        {
            return Err(format!(
                "{0} follows {name} already, by {1}: keen plan --take-apart {0}/{1} takes that apart first",
                self.name(*to),
                link.name
            ));
        }
        if self.is_of_standbys() {
            return Ok(()); // what they hold is what the lead holds
        }
        self.has_all_sets()?;
        match self.engine() {
            Engine::MariaDb => self.logs_what_it_applies(),
            _ => Ok(()),
        }
    }

    /// A lead that turns keen away is not gone, and may take writes.
    fn is_there_or_silent(&self) -> Result<(), String> {
        let lead = self.request.lead;
        let attempts = self.request.looks.get(&lead).map(|look| &look.attempts[..]);
        let faults = attempts.unwrap_or_default().iter().filter_map(|tried| tried.fault.as_ref());
        match faults.into_iter().find(|fault| !fault.kind.is_silence()) {
            Some(fault) if self.facts(lead).is_none() => Err(format!(
                "{} does not let keen look, which is no sign that it takes no writes: {fault}",
                self.name(lead)
            )),
            _ => Ok(()),
        }
    }

    fn can_be_turned(&self, to: NodeId, at: LinkAt, is_declared: bool) -> Result<(), String> {
        let (lead, link) = (self.request.lead, &self.found[at].2);
        let (lead_name, receiver) = (self.name(lead), self.name(to));
        let of_it = format!("{} {} of {receiver}", link.means.words(), link.name);
        if !is_declared {
            return Err(format!(
                "{of_it} comes from {lead_name}, and the topology file does not declare it: declare it, or take it apart first (keen plan --take-apart)"
            ));
        }
        match link.means {
            ReplicationKind::BinaryLog
            | ReplicationKind::Subscription
            | ReplicationKind::StandIn => {}
            ReplicationKind::Streaming if self.is_of_standbys() => {}
            ReplicationKind::Streaming => {
                return Err(format!(
                    "{receiver} is a standby of {lead_name}, and others take rows from it: point those elsewhere first, or take them apart"
                ));
            }
            ReplicationKind::Pglogical => {
                return Err(format!("{of_it}: keen turns no links of pglogical"));
            }
        }
        if let Some(delay) = link.delay.filter(|delay| !delay.is_zero()) {
            return Err(format!(
                "{of_it} is {} s late on purpose, and everybody has to have what {lead_name} wrote: take the delay away first",
                delay.as_secs()
            ));
        }
        if let Some(filter) = link.filters.first() {
            return Err(format!(
                "{of_it} leaves changes out ({}), and nobody could tell that it has all of them",
                filter.rule
            ));
        }
        let runs = |state| matches!(state, WorkerState::Runs | WorkerState::Tries);
        // A standby that only tries to receive may have lost its place long ago.
        let receives = match link.means {
            _ if self.facts(lead).is_none() => true,
            ReplicationKind::Streaming => link.receiving == WorkerState::Runs,
            _ => runs(link.receiving),
        };
        if !receives || !runs(link.applying) {
            return Err(format!(
                "{of_it} does not bring what {lead_name} writes: mend it first (keen flow says where it stands), or take it apart"
            ));
        }
        Ok(())
    }

    /// It takes all that others take from the lead.
    fn has_all_sets(&self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let topology = self.topology();
        let links = |to: Option<NodeId>| {
            let links = topology.links.iter().filter(move |l| l.from == lead);
            let links = links.filter(move |l| to.is_none_or(|to| l.to == to));
            links.flat_map(|l| l.carries.iter().copied()).collect::<BTreeSet<_>>()
        };
        let has = links(Some(node));
        if let Some(set) = links(None).difference(&has).next() {
            return Err(format!(
                "{} does not take set {} from {}, which others do",
                self.name(node),
                topology.sets[*set].name,
                self.name(lead)
            ));
        }
        let in_part = |set: &&usize| {
            let set = &topology.sets[**set];
            set.filter.is_some() || set.columns != ColumnChoice::All
        };
        match has.iter().find(in_part) {
            Some(set) => Err(format!(
                "{} holds set {} only in part: what it does not hold would not lead anywhere any more",
                self.name(node),
                topology.sets[*set].name
            )),
            None => Ok(()),
        }
    }

    fn logs_what_it_applies(&self) -> Result<(), String> {
        let node = self.request.node;
        let name = self.name(node);
        let settings = self.facts(node).map(|facts| &facts.settings);
        let Some(Ok(settings)) = settings else {
            return Err(format!("the settings of {name} could not be read"));
        };
        for setting in ["log_bin", "log_slave_updates"] {
            let on =
                settings.get(setting).is_some_and(|v| v.eq_ignore_ascii_case("on") || v == "1");
            if !on {
                return Err(format!(
                    "{setting} is off on {name}: its log does not hold what the others may still lack (keen preflight says how to change that)"
                ));
            }
        }
        Ok(())
    }

    /// What was written on the node itself would come to the others with its log.
    pub(super) fn nothing_of_its_own(&mut self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let unread = |fault| format!("what {name} wrote itself could not be read: {fault}");
        let wrote = (self.read)(node, &Subject::OwnWrites).map_err(unread)?;
        let Some(state) = wrote else { return Ok(()) };
        let subject = Subject::HeldState { state };
        match (self.read)(lead, &subject).map_err(unread)? {
            Some(_) => Ok(()),
            None if self.engine() == Engine::Sqlite => Err(format!(
                "the journal of {name} has writes that were made on {name} itself and that {lead_name} does not have, and all others would get them: keen audit shows what differs"
            )),
            None => Err(format!(
                "the log of {name} has writes that were made on {name} itself and that the log of {lead_name} does not have, and all others would get them: repair what differs (keen audit), and then empty that log (RESET MASTER on {name}), if nobody follows {name}"
            )),
        }
    }
}
