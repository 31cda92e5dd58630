//! Planning what is not about rows: a preflight, the values that it would change as they are now, and the same look
//! once more when a plan was carried out.

use std::collections::{BTreeMap, BTreeSet};

use anyhow::{Context as _, Result, bail};
use jiff::Timestamp;
use keen_core::fault::ReadFault;
use keen_core::plan;
use keen_core::plan::apart::{Apart, ApartRequest, Leftover};
use keen_core::plan::evidence::Evidence;
use keen_core::plan::linking::LinkingRequest;
use keen_core::plan::promoting::{LastSeen, PromotionRequest, lead_of};
use keen_core::plan::seeding::SeedRequest;
use keen_core::plan::setup_steps::{self, SetupChoice, SetupPlan};
use keen_core::plan::stopped::going_on;
use keen_core::preflight::PreflightScope;
use keen_core::preflight::legend::{check, nearest};
use keen_core::setup::port::ChangeSetup;
use keen_core::setup::{SetupKind, Subject};
use keen_core::topology::node_set::NodeSet;
use keen_core::topology::{NodeId, Topology};
use keen_run::mend::setup::FoundAgain;

use crate::app;
use crate::app::open_node::NodeOpener;
use crate::app::plan::Planned;
use crate::app::preflight::PreflightRequest;
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::stop::Stop;
use crate::app::topology_file::Loaded;

/// Refuses names that are no checks.
pub(crate) fn known_checks(names: &[String]) -> Result<()> {
    let Some(unknown) = names.iter().find(|name| check(name).is_none()) else { return Ok(()) };
    let near = nearest(unknown);
    let hint = if near.is_empty() {
        String::new()
    } else {
        format!("; did you mean {}?", near.join(", "))
    };
    bail!("there is no finding {}{hint} (keen explain has all)", crate::safe::text(unknown));
}

fn request(loaded: &Loaded, scope: &AuditScope, nodes: NodeSet) -> PreflightRequest {
    PreflightRequest {
        nodes,
        left_out: scope.left_out(&loaded.topology),
        tables: scope.tables.clone(),
        wait: scope.wait,
        scope: PreflightScope { shape: true, only_shape: false },
    }
}

/// A plan of nothing, from nothing that was read.
pub(crate) fn without_rows(loaded: &Loaded, scope: &AuditScope) -> Result<Planned> {
    let started = Timestamp::now();
    Ok(Planned {
        plan: plan::make(&loaded.topology, Vec::new(), Evidence::default())?,
        setup: SetupPlan::default(),
        stopped: Vec::new(),
        passed: Vec::new(),
        started,
        took: std::time::Duration::ZERO,
        left_out: scope.left_out(&loaded.topology),
        audited: started.to_string(),
        with_rows: false,
        complete: true,
        interrupted: false,
        read: NodeSet::EMPTY,
        topology_digest: loaded.digest.clone(),
        topology_after: None,
    })
}

/// Adds the steps by which links go on behind the rows of the plan.
pub(crate) fn add_going_on(topology: &Topology, planned: &mut Planned) -> Result<()> {
    let (stopped, passed) = (&planned.stopped, &planned.passed);
    planned.setup.steps = going_on(&planned.plan, topology, stopped, passed)?;
    if !planned.passed.is_empty() {
        planned.setup.notes.push(
            "what a receiver does without stays different: keen audit shows it afterwards, and keen plan what would repair it"
                .to_owned(),
        );
    }
    Ok(())
}

/// The ends of links that are named as FROM:TO.
pub(crate) fn ends(topology: &Topology, links: &[String]) -> Result<Vec<(NodeId, NodeId)>> {
    let ends = |link: &String| {
        let (from, to) = link.split_once(':').context("name a link as FROM:TO")?;
        let node = |name: &str| {
            let known = topology.node(name);
            known.with_context(|| format!("there is no node {}", crate::safe::text(name)))
        };
        Ok((node(from)?, node(to)?))
    };
    links.iter().map(ends).collect()
}

/// Adds steps of these kinds to a plan, from what a preflight finds now.
pub(crate) fn add(
    loaded: &Loaded,
    scope: &AuditScope,
    planned: &mut Planned,
    (kinds, checks): (&[SetupKind], &[String]),
    stop: &Stop,
) -> Result<()> {
    let clock = std::time::Instant::now();
    // Links are judged by both of their ends.
    let outcome = app::preflight::run(loaded, &request(loaded, scope, NodeSet::ALL), stop)?;
    let choice = SetupChoice { kinds: kinds.to_vec(), checks: checks.to_vec(), nodes: scope.nodes };
    let mut states = NodeStates::new(NodeOpener::new(loaded, scope.wait, scope.silence, stop));
    let mut read = |node: NodeId, subject: &_| states.read(node, subject);
    let before = (planned.plan.step_count() + planned.setup.steps.len()) as u64;
    let topology = &loaded.topology;
    let report = &outcome.report;
    let more = setup_steps::from_findings(topology, report, &choice, before, &mut read);
    planned.setup.steps.extend(more.steps);
    planned.setup.notes.extend(more.notes);
    planned.setup.undecided = more.undecided;
    let unseen: Vec<&str> = {
        let mut names: Vec<&str> =
            report.unseen.iter().map(|unseen| &topology.nodes[unseen.node].name[..]).collect();
        names.dedup();
        names
    };
    if !unseen.is_empty() {
        planned.setup.notes.push(format!(
            "the preflight could not look at everything on {} (keen preflight says why)",
            unseen.join(", ")
        ));
    }
    planned.complete &= unseen.is_empty() && !more.incomplete;
    for node in outcome.looks.iter().filter(|(_, look)| look.facts.is_some()).map(|(node, _)| *node)
    {
        planned.read.insert(node);
    }
    planned.took += clock.elapsed();
    Ok(())
}

/// Plans that a node is filled from another; if links are named that these make, from the source of the first.
///
/// # Errors
/// Why it cannot be.
pub(crate) fn add_seeding(
    loaded: &Loaded,
    scope: &AuditScope,
    planned: &mut Planned,
    ((from, node), links): ((NodeId, NodeId), &[(NodeId, NodeId)]),
    stop: &Stop,
) -> Result<()> {
    let clock = std::time::Instant::now();
    let topology = &loaded.topology;
    let outcome = app::preflight::run(loaded, &request(loaded, scope, NodeSet::ALL), stop)?;
    // A table without rows has nothing to lose.
    let facts = outcome.looks.get(&node).and_then(|look| look.facts.as_deref());
    let may_hold = |table: &&String| {
        let Some(look) = facts.and_then(|facts| facts.tables.get(*table)) else { return false };
        let there = look.as_ref().ok().and_then(|look| look.there());
        there.is_none_or(|look| !matches!(look.any_rows, Ok(false)))
    };
    let carried = topology.sets.iter().flat_map(|set| &set.tables);
    let held: BTreeSet<String> = carried.filter(may_hold).cloned().collect();
    let compared = match held.is_empty() {
        true => Vec::new(),
        false => {
            let scope = AuditScope { tables: held.into_iter().collect(), ..scope.clone() };
            app::preflight::compared_behind_links(loaded, (node, from), &scope, stop)?
        }
    };
    let mut states = NodeStates::new(NodeOpener::new(loaded, scope.wait, scope.silence, stop));
    let seeding = SeedRequest {
        topology,
        looks: &outcome.looks,
        from,
        node,
        new: &[],
        new_writer: false,
        compared: &compared,
        before: planned.plan.step_count() as u64,
    };
    let (name, source) = (&topology.nodes[node].name, &topology.nodes[from].name);
    let sources: Vec<NodeId> =
        links.iter().filter(|(_, to)| *to == node).map(|(from, _)| *from).collect();
    let receivers: Vec<NodeId> =
        links.iter().filter(|(from, _)| *from == node).map(|(_, to)| *to).collect();
    let made = match links.is_empty() {
        true => seeding
            .plan()
            .map_err(|why| anyhow::anyhow!("{name} cannot be filled from {source}: {why}"))?,
        false => LinkingRequest { seed: seeding, sources: &sources, receivers: &receivers }
            .plan(&mut |node, subject| states.read(node, subject))
            .map_err(|why| anyhow::anyhow!("no link to {name} is planned: {why}"))?,
    };
    planned.complete &= !made.incomplete;
    planned.read = NodeSet::of(node) | NodeSet::of(from);
    planned.setup = made;
    planned.took += clock.elapsed();
    Ok(())
}

/// What `--take-apart` names.
///
/// # Errors
/// A name that is none.
pub(crate) fn to_take_apart(topology: &Topology, names: &[String]) -> Result<Vec<Apart>> {
    let node = |name: &str| {
        let known = topology.node(name);
        known.with_context(|| format!("there is no node {}", crate::safe::text(name)))
    };
    let apart = |name: &String| {
        if let Some((to, link)) = name.split_once('/') {
            return Ok(Apart::Named(node(to)?, link.to_owned()));
        }
        if let Some((from, to)) = name.split_once(':') {
            let (from, to) = (node(from)?, node(to)?);
            if from == to {
                bail!("no link leads from a node to itself");
            }
            return Ok(Apart::Link(from, to));
        }
        match topology.node(name) {
            Some(node) => Ok(Apart::Node(node)),
            None if name == "all" => Ok(Apart::All),
            None => bail!(
                "there is no node {}: name a link as FROM:TO, one of a node as NODE/LINK, a node, or all",
                crate::safe::text(name)
            ),
        }
    };
    names.iter().map(apart).collect()
}

/// What `--remove` names.
///
/// # Errors
/// A name that is none.
pub(crate) fn to_remove(names: &[String]) -> Result<Vec<Leftover>> {
    let leftover = |name: &String| match &name[..] {
        "publication" => Ok(Leftover::Publications),
        "origin" => Ok(Leftover::Origins),
        "service-table" => Ok(Leftover::ServiceTables),
        other => match other.split_once(':') {
            Some(("slot", slot)) if !slot.is_empty() => Ok(Leftover::Slot(slot.to_owned())),
            _ => bail!(
                "--remove takes publication, origin, service-table, or slot: and the name of a slot; not {}",
                crate::safe::text(other)
            ),
        },
    };
    names.iter().map(leftover).collect()
}

/// Plans that links are taken apart.
///
/// # Errors
/// Why they cannot be.
pub(crate) fn add_taking_apart(
    loaded: &Loaded,
    scope: &AuditScope,
    planned: &mut Planned,
    (apart, removes): (&[Apart], &[Leftover]),
    stop: &Stop,
) -> Result<()> {
    let clock = std::time::Instant::now();
    let topology = &loaded.topology;
    let outcome = app::preflight::run(loaded, &request(loaded, scope, NodeSet::ALL), stop)?;
    let mut states = NodeStates::new(NodeOpener::new(loaded, scope.wait, scope.silence, stop));
    let before = planned.plan.step_count() as u64;
    let taking = ApartRequest { topology, looks: &outcome.looks, apart, removes, before };
    let made = taking.plan(&mut |node, subject| states.read(node, subject));
    let made = made.map_err(|why| anyhow::anyhow!("nothing is taken apart: {why}"))?;
    planned.complete &= !made.incomplete;
    planned.read = outcome
        .looks
        .iter()
        .filter(|(_, look)| look.facts.is_some())
        .map(|(node, _)| *node)
        .collect();
    planned.setup = made;
    planned.took += clock.elapsed();
    Ok(())
}

/// The node that hands its lead over to another.
///
/// # Errors
/// Why it cannot.
pub(crate) fn to_promote(loaded: &Loaded, name: &str) -> Result<Promotion> {
    let topology = &loaded.topology;
    let node = topology.node(name);
    let node = node.with_context(|| format!("there is no node {}", crate::safe::text(name)))?;
    let lead = lead_of(topology, node)
        .map_err(|why| anyhow::anyhow!("{name} takes over from nobody: {why}"))?;
    Ok(Promotion { lead, node })
}

/// How far the log of a node had come when keen looked at it last.
fn last_seen(ledger: &RunLog, topology: &Topology, node: NodeId) -> Option<LastSeen> {
    let (_, memory) = ledger.remembered(topology);
    let (at, position) = memory.positions.get(&node)?.last()?;
    let at = Timestamp::from_microsecond(*at).ok()?;
    Some(LastSeen { at: format!("{at:.0}"), position: position.to_string() })
}

/// A lead that is handed over.
pub(crate) struct Promotion {
    lead: NodeId,
    node: NodeId,
}

/// Plans that a lead is handed over.
///
/// # Errors
/// Why it cannot be.
pub(crate) fn add_promotion(
    loaded: &Loaded,
    scope: &AuditScope,
    planned: &mut Planned,
    (promotion, accepted, ledger): (&Promotion, Option<&str>, &RunLog),
    stop: &Stop,
) -> Result<()> {
    let clock = std::time::Instant::now();
    let topology = &loaded.topology;
    let Promotion { lead, node } = promotion;
    let (lead_name, name) = (&topology.nodes[*lead].name, &topology.nodes[*node].name);
    if let Some(accepted) = accepted.filter(|accepted| accepted != lead_name) {
        bail!(
            "{} is not the lead that would be lost: that is {lead_name}",
            crate::safe::text(accepted)
        );
    }
    let outcome = app::preflight::run(loaded, &request(loaded, scope, NodeSet::ALL), stop)?;
    let is_there = outcome.looks.get(lead).is_some_and(|look| look.facts.is_some());
    if is_there && accepted.is_some() {
        bail!("{lead_name} can be read: leave out --accept-loss, and nothing is lost");
    }
    let (text, after) =
        crate::app::topology_edit::handed_over(&loaded.text, lead_name, name, !is_there)?;
    let mut states = NodeStates::new(NodeOpener::new(loaded, scope.wait, scope.silence, stop));
    let handing = PromotionRequest {
        topology,
        after: &after,
        looks: &outcome.looks,
        lead: *lead,
        node: *node,
        accepts_loss: accepted.is_some(),
        last_seen: if is_there { None } else { last_seen(ledger, topology, *lead) },
        before: planned.plan.step_count() as u64,
    };
    let made = handing.plan(&mut |node, subject| states.read(node, subject));
    let made = made.map_err(|why| anyhow::anyhow!("{name} is not promoted: {why}"))?;
    planned.complete &= !made.incomplete;
    let seen = outcome.looks.iter().filter(|(_, look)| look.facts.is_some());
    planned.read = seen.map(|(node, _)| *node).collect();
    planned.setup = made;
    planned.topology_after = Some(text);
    planned.took += clock.elapsed();
    Ok(())
}

/// Nodes that are opened to read values of their set-up when the first is asked for.
struct NodeStates<'a> {
    opener: NodeOpener<'a>,
    open: BTreeMap<NodeId, Result<Box<dyn ChangeSetup>, ReadFault>>,
}

impl<'a> NodeStates<'a> {
    fn new(opener: NodeOpener<'a>) -> Self {
        Self { opener, open: BTreeMap::new() }
    }

    fn read(&mut self, node: NodeId, subject: &Subject) -> Result<Option<String>, ReadFault> {
        let opened = self.open.entry(node).or_insert_with(|| self.opener.setup(node));
        match opened {
            Ok(opened) => opened.state(subject),
            Err(fault) => Err(fault.clone()),
        }
    }
}

/// Looks for what these checks find now.
///
/// # Errors
/// Why that cannot be told.
pub(crate) fn find_again(
    loaded: &Loaded,
    scope: &AuditScope,
    checks: &[String],
    stop: &Stop,
) -> Result<FoundAgain, ReadFault> {
    let outcome = app::preflight::run(loaded, &request(loaded, scope, NodeSet::ALL), stop);
    let outcome =
        outcome.map_err(|error| ReadFault::new(error.to_string(), "keen preflight says more"))?;
    let report = &outcome.report;
    let found =
        report.findings.iter().filter(|finding| checks.iter().any(|c| c == finding.check.name));
    let mut found: Vec<String> =
        found.map(|finding| format!("{}: {}", finding.check.name, finding.found)).collect();
    let unread = outcome.looks.iter().filter(|(_, look)| look.facts.is_none());
    found.extend(
        unread.map(|(node, _)| {
            format!("{} could not be looked at", loaded.topology.nodes[*node].name)
        }),
    );
    Ok(FoundAgain { findings: found, saw_all: report.unseen.is_empty() })
}
