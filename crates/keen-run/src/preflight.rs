//! Looking at every node side by side, for a preflight.

use std::collections::BTreeMap;
use std::net::{TcpStream, ToSocketAddrs};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use keen_core::fault::{FaultKind, ReadFault};
use keen_core::observe::log_reach::LogReach;
use keen_core::observe::node::{Attempt, NodeInspection, Observed, Step};
use keen_core::ports::{InspectionRequest, LookAtNode};
use keen_core::topology::placement::{Nodes, bit};
use keen_core::topology::{Address, NodeId, Server, Topology};

use keen_core::fault::{NO_HOST, NOBODY_LISTENS};

/// Opens a node at one of its addresses.
pub type Opener<'a> =
    dyn Fn(NodeId, &Address) -> Result<Box<dyn LookAtNode>, ReadFault> + Sync + 'a;

/// What is to be looked at.
pub struct InspectRequest<'a> {
    /// The topology.
    pub topology: &'a Topology,
    /// The nodes.
    pub nodes: Nodes,
    /// Only these tables; all of the sets if none.
    pub tables: &'a [String],
    /// How a node is opened.
    pub open: &'a Opener<'a>,
    /// How long one step to a node may take.
    pub wait: Duration,
}

/// Looks at all nodes at once. One that does not answer keeps the others waiting no longer than the limit.
#[must_use]
pub fn look(request: &InspectRequest<'_>) -> BTreeMap<NodeId, NodeInspection> {
    std::thread::scope(|scope| {
        let looking: Vec<_> = (0..request.topology.nodes.len())
            .filter(|node| request.nodes & bit(*node) != 0)
            .map(|node| (node, scope.spawn(move || one(request, node))))
            .collect();
        let look = |node: NodeId, thread: std::thread::ScopedJoinHandle<'_, NodeInspection>| {
            // What nobody looked at must not pass for fine.
            thread.join().unwrap_or_else(|_| NodeInspection {
                attempts: vec![Attempt {
                    address: request.topology.nodes[node].at.text(),
                    steps: Vec::new(),
                    fault: Some(crate::fell_over("looking at it")),
                }],
                facts: None,
            })
        };
        looking.into_iter().map(|(node, thread)| (node, look(node, thread))).collect()
    })
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
    let mut last = "it has no address".to_owned();
    for address in request.topology.nodes[node].addresses() {
        match (request.open)(node, address) {
            Ok(mut entered) => return entered.log_reach(since),
            Err(fault) => last = fault.what,
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
    InspectionRequest { tables, writes: node.writes, receives }
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
        attempt.steps.push((Step::Login, began.elapsed()));
        return Ok(entered);
    };
    let (addresses, took) = resolve(server, request.wait)?;
    attempt.steps.push((Step::Name, took));
    let began = Instant::now();
    match (request.open)(node, address) {
        Ok(entered) => {
            attempt.steps.push((Step::Login, began.elapsed()));
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
            attempt.steps.push((Step::Port, began.elapsed()));
            if fault.kind == FaultKind::NoAnswer {
                return Err(ReadFault::new(
                    format!("port {} of {} takes connections, and then nothing answers within {:?}", server.port, server.host, request.wait),
                    "the server is frozen or has no room for more: look at its machine, and at its log",
                )
                .of(FaultKind::NoAnswer));
            }
            Err(fault)
        }
    }
}

fn resolve(
    server: &Server,
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
            format!("nobody could say within {wait:?} where {host} is"),
            "look at this machine's name service, or give the host's number",
        )
        .of(FaultKind::NoAnswer)),
        _ => Err(ReadFault::new(format!("there is no host {host}"), NO_HOST).of(FaultKind::NoHost)),
    }
}

/// Whether the port takes a connection; which is closed again at once.
fn knock(
    server: &Server,
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
            "the machine is down, or something on the way drops what is sent there: look at firewalls and routes",
        )
        .of(FaultKind::NoAnswer),
        _ => ReadFault::new(
            format!("port {port} of {host} cannot be reached: {error}"),
            "look at the route to it",
        )
        .of(FaultKind::NoAnswer),
    })
}
