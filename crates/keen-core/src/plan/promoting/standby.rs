//! Standbys of PostgreSQL: a server is stopped and another promoted, which no connection does alone.
//!
//! A primary that is stopped cleanly sends all that it wrote before it ends, and a standby that has replayed that end says
//! so: nothing else is asked for, and nothing less is enough.

use super::{Handing, PromotionRequest};
use crate::observe::node::ReplicationKind;
use crate::plan::setup_steps::{SetupAct, SetupStep};
use crate::setup::{SetupChange, SetupCondition, Subject, YES};
use crate::topology::{Address, NodeId};

impl Handing<'_, '_> {
    /// All that follow the lead replay its log.
    pub(super) fn is_of_standbys(&self) -> bool {
        let replays = |at: usize| self.found[at].2.means == ReplicationKind::Streaming;
        !self.receivers.is_empty() && self.receivers.iter().all(|(_, at)| replays(*at))
    }

    pub(super) fn planned_standby(&mut self) -> Result<(), String> {
        let PromotionRequest { lead, node, .. } = *self.request;
        let (name, lead_name) = (self.name(node), self.name(lead));
        let so_far = (self.read)(lead, &Subject::LoggedPosition)
            .map_err(|fault| format!("how far the log of {lead_name} has come: {fault}"))?;
        let beyond = so_far.ok_or_else(|| format!("{lead_name} is a standby itself"))?;
        let end = Subject::CleanEnd { beyond };
        let stopped = vec![
            SetupCondition { node: lead, subject: Subject::Answers, is: None },
            SetupCondition { node, subject: end, is: Some(YES.to_owned()) },
        ];
        let what = format!(
            "stop what writes to {lead_name}, and then {lead_name} itself, cleanly (pg_ctl stop -m fast, or its service), so that it does not start again by itself"
        );
        let purpose = format!("{name} gets all that {lead_name} wrote before it ends");
        let act = SetupAct::ByHand { what, done: stopped.clone() };
        // It stays stopped: the step stands at the node that is there.
        let ended = self.push(SetupStep::of(node, purpose, act));
        let promoted = self.promote(vec![ended], stopped, None);
        let mut needs = vec![promoted];
        needs.extend(self.others_follow(promoted));
        self.hand_over(needs.clone());
        // The proof comes once the old lead follows.
        let check = self.plan.steps.pop();
        let what = format!(
            "let {lead_name} come back as a standby of {name}: standby.signal and primary_conninfo before it is started, or it would be a second lead (it has nothing that {name} lacks, so it needs no rewinding)"
        );
        let follows = self.follows(lead);
        let act = SetupAct::ByHand { what, done: vec![follows] };
        let purpose = format!("{lead_name} follows {name}");
        let step = SetupStep::of(node, purpose, act);
        let back = self.push(SetupStep { depends_on: vec![promoted], ..step });
        self.plan.steps.extend(check.map(|mut check| {
            check.depends_on.push(back);
            check
        }));
        self.lacking_slots();
        self.plan.notes.push(format!(
            "nobody can write from the moment {lead_name} is stopped until {name} is promoted; if {lead_name} is started again before that, plan again"
        ));
        Ok(())
    }

    pub(super) fn unplanned_standby(&mut self) -> Result<(), String> {
        let lead = self.request.lead;
        let lead_name = self.name(lead);
        self.nobody_has_more()?;
        let needs: Vec<u64> = self.fence().into_iter().collect();
        let mut also = self.fenced();
        for (to, at) in self.receivers.clone() {
            also.push(self.taken(to, at)?);
        }
        let loses = format!(
            "what {lead_name} wrote and had not sent: nobody can tell while {lead_name} is away"
        );
        let promoted = self.promote(needs, also, Some(loses));
        let mut needs = vec![promoted];
        needs.extend(self.others_follow(promoted));
        self.hand_over(needs);
        self.what_is_known();
        Ok(())
    }

    fn promote(
        &mut self,
        depends_on: Vec<u64>,
        also: Vec<SetupCondition>,
        loses: Option<String>,
    ) -> u64 {
        let node = self.request.node;
        let change = SetupChange {
            subject: Subject::Standby,
            before: Some(YES.to_owned()),
            after: None,
            pauses: Vec::new(),
        };
        let purpose = format!("{} leads", self.name(node));
        let step = SetupStep::of(node, purpose, SetupAct::Change(change));
        self.push(SetupStep { depends_on, also, loses, for_good: true, ..step })
    }

    /// The other standbys turn to the node that leads.
    fn others_follow(&mut self, promoted: u64) -> Vec<u64> {
        let name = self.name(self.request.node);
        let others: Vec<NodeId> = self.receivers.iter().skip(1).map(|(to, _)| *to).collect();
        let mut steps = Vec::new();
        for to in others {
            let what = format!(
                "let {} follow {name}: primary_conninfo with the address of {name} and its account, primary_slot_name with a slot of {name} or empty, then SELECT pg_reload_conf()",
                self.name(to)
            );
            let done = vec![self.follows(to)];
            let purpose = format!("{} follows {name}", self.name(to));
            let step = SetupStep::of(to, purpose, SetupAct::ByHand { what, done });
            steps.push(self.push(SetupStep { depends_on: vec![promoted], ..step }));
        }
        steps
    }

    /// A standby receives from the node that leads.
    fn follows(&self, standby: NodeId) -> SetupCondition {
        let leads = &self.topology().nodes[self.request.node];
        let place = match (&leads.replication, &leads.at) {
            (Some(account), _) => Some((account.host.clone(), account.port)),
            (None, Address::Server(server)) => Some((server.host.clone(), server.port)),
            (None, Address::Sqlite(_)) => None,
        };
        let is = place.map(|(host, port)| format!("from {host}:{port}"));
        SetupCondition { node: standby, subject: Subject::StandbyOf, is }
    }

    /// Slots that end with the lead.
    fn lacking_slots(&mut self) {
        let PromotionRequest { lead, node, .. } = *self.request;
        let slots = |of: NodeId| self.facts(of).and_then(|facts| facts.slots.as_ref().ok());
        let there: Vec<&str> =
            slots(node).into_iter().flatten().map(|slot| &slot.name[..]).collect();
        let lacking: Vec<&str> = slots(lead)
            .into_iter()
            .flatten()
            .map(|slot| &slot.name[..])
            .filter(|slot| !there.contains(slot))
            .collect();
        if !lacking.is_empty() {
            let (name, lacking) = (self.name(node), lacking.join(", "));
            self.plan.notes.push(format!(
                "{name} lacks slots {lacking}: who reads them has to be filled anew, or gets a slot on {name} before anybody writes there"
            ));
        }
    }
}
