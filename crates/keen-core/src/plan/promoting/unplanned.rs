//! A lead that is away: what is known of its last writes, and who answers for it that it takes no more.

use std::collections::BTreeMap;

use super::{Handing, LastSeen, LinkAt, PromotionRequest};
use crate::observe::position;
use crate::plan::setup_steps::{SetupAct, SetupStep};
use crate::setup::{SetupCondition, Subject, YES};
use crate::topology::{Engine, NodeId};

impl Handing<'_, '_> {
    /// The source of a subscription is told by its slot there, which nobody can look at while the lead is away.
    pub(super) fn can_only_be_of_the_lead(&self, to: NodeId) -> bool {
        let lead = self.request.lead;
        let links = || self.topology().links.iter().filter(|link| link.to == to);
        self.facts(lead).is_none()
            && links().next().is_some()
            && links().all(|link| link.from == lead)
            && self.found.iter().filter(|(of, ..)| *of == to).count() == 1
    }

    /// While the lead is away.
    pub(super) fn unplanned(&mut self) -> Result<(), String> {
        let lead = self.request.lead;
        let lead_name = self.name(lead);
        self.nobody_has_more()?;
        let needs: Vec<u64> = self.fence().into_iter().collect();
        let others: Vec<NodeId> = self.receivers.iter().skip(1).map(|(to, _)| *to).collect();
        let new = self.new_links(&others, &needs)?;
        let made: Vec<u64> = new.made.values().map(|(number, _)| *number).collect();
        let first: Vec<u64> = needs.iter().copied().chain(made).collect();
        let gone = self.take_away(&first, &self.fenced())?;
        let all_gone: Vec<u64> = gone.values().copied().collect();
        for step in &mut self.plan.steps {
            let takes_away = matches!(&step.act, SetupAct::Change(change)
                if matches!(change.subject, Subject::Link { .. }));
            if takes_away {
                step.loses = Some(format!(
                    "what {lead_name} wrote and had not sent to {}: nobody can tell while {lead_name} is away",
                    self.request.topology.nodes[step.node].name
                ));
            }
        }
        let ready = self.slots(&new, &all_gone, &[]);
        let counted = self.counters(&all_gone);
        let opens: Vec<u64> = ready.values().chain(&all_gone).chain(&counted).copied().collect();
        let opened = self.open(&opens, &[])?;
        self.turn(&new, &ready, &gone);
        self.hand_over(opened.into_iter().chain(opens).collect());
        self.what_is_known();
        Ok(())
    }

    /// The step by which somebody answers for it that the lead takes no writes any more, unless its loss is accepted.
    pub(super) fn fence(&mut self) -> Option<u64> {
        if self.request.accepts_loss {
            return None;
        }
        let PromotionRequest { lead, node, .. } = *self.request;
        let lead_name = self.name(lead);
        let done = self.fenced();
        let what = format!(
            "make sure that {lead_name} takes no writes any more and does not come back by itself (power, network, service), and say so: keen mend PLAN --fenced {lead_name}"
        );
        let purpose =
            format!("what is written on {lead_name} from now on would be on {lead_name} alone");
        let step = SetupStep::of(node, purpose, SetupAct::ByHand { what, done });
        Some(self.push(step))
    }

    /// Somebody answers for it, each time, unless its loss is accepted.
    pub(super) fn fenced(&self) -> Vec<SetupCondition> {
        let node = self.request.lead;
        let fenced = SetupCondition { node, subject: Subject::FencedOff, is: Some(YES.to_owned()) };
        if self.request.accepts_loss { Vec::new() } else { vec![fenced] }
    }

    /// What is known of the lead, and what nobody can know.
    pub(super) fn what_is_known(&mut self) {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        if self.request.accepts_loss {
            self.plan.notes.push(format!(
                "nobody answers for it that {lead_name} takes no writes: what it takes from now on stays on {lead_name} alone"
            ));
        }
        let known = match self.request.last_seen.clone() {
            None => format!(
                "nothing is known of how far {lead_name} had come: keen had not looked at it before"
            ),
            Some(LastSeen { at, position }) => self.known_of_it(&at, &position),
        };
        self.plan.notes.push(known);
        let slots: Vec<&str> = self
            .receivers
            .iter()
            .filter_map(|(_, at)| self.found[*at].2.source.slot.as_deref())
            .collect();
        if !slots.is_empty() {
            let slots = slots.join(", ");
            self.plan.notes.push(format!(
                "on {lead_name} nobody reads {slots} any more: once it can be read again, keen preflight finds them"
            ));
        }
        let after = self.request.after;
        let is_declared = after.links.iter().any(|l| (l.from, l.to) == (node, lead));
        let declare = match is_declared {
            true => String::new(),
            false => format!("declare {name} -> {lead_name} in the topology file again; then "),
        };
        let follows_again = match self.is_of_standbys() {
            true => format!(
                "keep that before pg_rewind or a new copy makes {lead_name} a standby again"
            ),
            false => format!(
                "keen plan --link {name}:{lead_name} makes it follow and keeps those rows in a file"
            ),
        };
        self.plan.notes.push(format!(
            "what {lead_name} committed later nobody can know; when it can be read again, keep applications from it, and {declare}keen audit --node {name},{lead_name} shows row by row what it alone has; {follows_again}"
        ));
    }

    fn known_of_it(&mut self, at: &str, position: &str) -> String {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let seen = format!("at {at} the log of {lead_name} had come to {position}");
        let held = match self.engine() {
            Engine::MariaDb => {
                let subject = Subject::HeldPosition { position: position.to_owned() };
                (self.read)(node, &subject).map(|held| held.is_some())
            }
            _ if self.is_of_standbys() => {
                let taken = (self.read)(node, &Subject::Taken { link: String::new() });
                taken.map(|taken| taken.is_some_and(|taken| position::has_all(&taken, position)))
            }
            _ => return format!("{seen}; whether {name} has all of that its links do not tell"),
        };
        match held {
            Ok(true) => format!("{seen}, and {name} has all of that"),
            Ok(false) => format!(
                "{seen}, and {name} lacks some of that: it is lost with {lead_name}, unless {lead_name} can be read again"
            ),
            Err(fault) => {
                format!("{seen}; whether {name} has all of that could not be read: {fault}")
            }
        }
    }

    /// How far a link has applied of the lead.
    pub(super) fn taken(&mut self, to: NodeId, at: LinkAt) -> Result<SetupCondition, String> {
        let subject = Subject::Taken { link: self.found[at].2.name.clone() };
        let receiver = self.name(to);
        let unread = |fault| format!("{subject} on {receiver} could not be read: {fault}");
        let is = (self.read)(to, &subject).map_err(unread)?;
        Ok(SetupCondition { node: to, subject, is })
    }

    /// Nobody has applied more of the lead than the node that is to lead.
    pub(super) fn nobody_has_more(&mut self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let mut taken = BTreeMap::new();
        for (to, at) in self.receivers.clone() {
            taken.insert(to, self.taken(to, at)?.is);
        }
        let mine = taken.get(&node).cloned().flatten();
        for (to, theirs) in taken.iter().filter(|(to, _)| **to != node) {
            let Some(theirs) = theirs else { continue };
            let has_it = match &mine {
                None => false,
                Some(mine) => position::has_all(mine, theirs),
            };
            if !has_it {
                return Err(format!(
                    "{0} has applied more of {lead_name} than {name} ({theirs}, and {name} {1}): promote {0}",
                    self.name(*to),
                    mine.as_deref().unwrap_or("nothing")
                ));
            }
            if self.engine() == Engine::Postgres
                && !self.is_of_standbys()
                && mine.as_ref() != Some(theirs)
            {
                self.plan.notes.push(format!(
                    "{} has applied less of {lead_name} than {name}, and its new link does not bring that: keen audit shows it afterwards, and keen plan repairs it or asks",
                    self.name(*to)
                ));
            }
        }
        Ok(())
    }
}
