//! Looking at every node side by side, for a preflight.

use keen_core::topology::node_set::NodeSet;
use std::collections::BTreeMap;
use std::net::{TcpStream, ToSocketAddrs};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{AccessStep, Attempt, NodeInspection, Observed};
use keen_core::ports::{InspectionRequest, LookAtNode};
use keen_core::topology::{Address, NodeId, ServerAddress, Topology};

use keen_core::fault::{NO_HOST, NOBODY_LISTENS};

use crate::fan_out::fan_out;

/// Opens a node at one of its addresses.
pub type OpenAddress<'a> =
    dyn Fn(NodeId, &Address) -> Result<Box<dyn LookAtNode>, ReadFault> + Sync + 'a;

/// A request for looks at nodes.
pub struct InspectRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The nodes.
    pub nodes: NodeSet,
    /// Only these tables; all of the sets if none.
    pub tables: &'a [String],
    /// How a node is opened.
    pub open: &'a OpenAddress<'a>,
    /// How long one step to a node may take.
    pub wait: Duration,
}

/// Looks at all nodes at once. One that does not answer keeps the others waiting no longer than the limit.
#[must_use]
pub fn look(request: &InspectRequest<'_>) -> BTreeMap<NodeId, NodeInspection> {
    let nodes = (0..request.topology.nodes.len()).filter(|node| request.nodes.contains(*node));
    let looked =
        fan_out(nodes.map(|node| (node, ())), "looking at it", |node, ()| one(request, node));
    let look = |(node, looked): (NodeId, Result<NodeInspection, ReadFault>)| {
        // What nobody looked at must not pass for fine.
        let inspection = looked.unwrap_or_else(|fault| NodeInspection {
            attempts: vec![Attempt {
                address: request.topology.nodes[node].at.text(),
                steps: Vec::new(),
                fault: Some(fault),
            }],
            facts: None,
        });
        (node, inspection)
    };
    looked.into_iter().map(look).collect()
}

fn one(request: &InspectRequest<'_>, id: NodeId) -> NodeInspection {
    let topology = request.topology;
    let node = &topology.nodes[id];
    let asked = asked(request, id);
    let mut attempts = Vec::new();
    for address in node.addresses() {
        let mut attempt = Attempt { address: address.text(), steps: Vec::new(), fault: None };
        match enter(request, id, address, &mut attempt) {
            Ok(mut entered) => {
                let facts = Some(Box::new(entered.look(&asked)));
                attempts.push(attempt);
                return NodeInspection { attempts, facts };
            }
            Err(fault) => {
                attempt.fault = Some(fault);
                attempts.push(attempt);
            }
        }
    }
    NodeInspection { attempts, facts: None }
}

/// How far a node's log reaches, at the first of its addresses that answers.
///
/// # Errors
/// Why that cannot be told.
pub fn log_reach(
    request: &InspectRequest<'_>,
    node: NodeId,
    since: Option<&str>,
) -> Observed<LogReach> {
    let mut last = ReadFault::not_told("it has no address");
    for address in request.topology.nodes[node].addresses() {
        match (request.open)(node, address) {
            Ok(mut entered) => return entered.log_reach(since),
            Err(fault) => last = fault,
        }
    }
    Err(last)
}

/// The tables that travel over a node.
fn asked(request: &InspectRequest<'_>, id: NodeId) -> InspectionRequest {
    let topology = request.topology;
    let node = &topology.nodes[id];
    let mut tables: Vec<(String, String)> = Vec::new();
    for (set, content) in topology.sets.iter().enumerate() {
        if !topology.carriers(set).contains(&id) {
            continue;
        }
        for table in &content.tables {
            let wanted = request.tables.is_empty() || request.tables.contains(table);
            if wanted && !tables.iter().any(|(known, _)| known == table) {
                tables.push((table.clone(), node.name_of(table).to_owned()));
            }
        }
    }
    let receives = topology.links.iter().any(|link| link.to == id);
    InspectionRequest { tables, writes: node.writes, receives, mends: false }
}

fn enter(
    request: &InspectRequest<'_>,
    node: NodeId,
    address: &Address,
    attempt: &mut Attempt,
) -> Result<Box<dyn LookAtNode>, ReadFault> {
    let Address::Server(server) = address else {
        let began = Instant::now();
        let entered = (request.open)(node, address)?;
        attempt.steps.push((AccessStep::Login, began.elapsed()));
        return Ok(entered);
    };
    let (addresses, took) = resolve(server, request.wait)?;
    attempt.steps.push((AccessStep::Name, took));
    let began = Instant::now();
    match (request.open)(node, address) {
        Ok(entered) => {
            attempt.steps.push((AccessStep::Login, began.elapsed()));
            Ok(entered)
        }
        // Who was refused by the server itself has passed the port. Of others the port is asked: not
        // before, because servers note who connects and goes away again.
        Err(fault) => {
            let began = Instant::now();
            let answered = !matches!(
                fault.kind,
                FaultKind::Other | FaultKind::NoAnswer | FaultKind::NoHost | FaultKind::Refused
            );
            if !answered {
                knock(server, &addresses, request.wait)?;
            }
            attempt.steps.push((AccessStep::Port, began.elapsed()));
            if fault.kind == FaultKind::NoAnswer {
                return Err(ReadFault::new(
                    format!("port {} of {} accepts connections, but nothing answers within {:?}", server.port, server.host, request.wait),
                    "the server is frozen or has no room for more connections: check its machine and its log",
                )
                .of(FaultKind::NoAnswer));
            }
            Err(fault)
        }
    }
}

fn resolve(
    server: &ServerAddress,
    wait: Duration,
) -> Result<(Vec<std::net::SocketAddr>, Duration), ReadFault> {
    let began = Instant::now();
    let place = (server.host.clone(), server.port);
    let (say, said) = mpsc::sync_channel(1);
    // The system's resolver knows no limit of ours.
    let asking = std::thread::Builder::new().name("resolve".to_owned()).spawn(move || {
        let found = place.to_socket_addrs().map(Iterator::collect::<Vec<_>>);
        drop(say.send(found));
    });
    let asked = asking.is_ok();
    let host = &server.host;
    match said.recv_timeout(wait) {
        Ok(Ok(found)) if !found.is_empty() => Ok((found, began.elapsed())),
        Err(_) if asked => Err(ReadFault::new(
            format!("the name {host} could not be resolved within {wait:?}"),
            "check this machine's name resolution, or use the host's IP address",
        )
        .of(FaultKind::NoAnswer)),
        _ => Err(ReadFault::new(format!("there is no host {host}"), NO_HOST).of(FaultKind::NoHost)),
    }
}

/// Whether the port takes a connection; which is closed again at once.
fn knock(
    server: &ServerAddress,
    addresses: &[std::net::SocketAddr],
    wait: Duration,
) -> Result<(), ReadFault> {
    let mut last = None;
    for address in addresses {
        match TcpStream::connect_timeout(address, wait) {
            Ok(stream) => {
                drop(stream);
                return Ok(());
            }
            Err(error) => last = Some(error),
        }
    }
    let (host, port) = (&server.host, server.port);
    let Some(error) = last else {
        return Err(
            ReadFault::new(format!("there is no host {host}"), NO_HOST).of(FaultKind::NoHost)
        );
    };
    use std::io::ErrorKind as Kind;
    Err(match error.kind() {
        Kind::ConnectionRefused => {
            ReadFault::new(format!("port {port} of {host} refused the connection"), NOBODY_LISTENS)
                .of(FaultKind::Refused)
        }
        Kind::TimedOut | Kind::WouldBlock => ReadFault::new(
            format!("port {port} of {host} did not answer within {wait:?}"),
            "the machine is down, or something on the path drops packets: check firewalls and routes",
        )
        .of(FaultKind::NoAnswer),
        _ => ReadFault::new(
            format!("port {port} of {host} cannot be reached: {error}"),
            "check the route to it",
        )
        .of(FaultKind::NoAnswer),
    })
}
