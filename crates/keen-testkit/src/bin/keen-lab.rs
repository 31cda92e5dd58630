//! Starts a few linked servers with the tables of the refuge huts, writes a topology file for them
//! and keeps them up until it is told to end: something to try keen on.

use std::fs;
use std::io::{Read, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::builder::PossibleValuesParser;
use clap::{Parser, ValueEnum};
use keen_testkit::wrong::{self, WrongLinks};
use keen_testkit::{CHECKER, Server, ServerFault, ServerKind, ServerLab, Settings, huts, links};

/// Start private database servers, linked, with the tables of the refuge huts, and a keen.toml for them.
///
/// Everything is on loopback ports and in a temporary folder, and gone when this ends.
#[derive(Debug, Parser)]
#[command(name = "keen-lab")]
struct Arguments {
    /// How the servers are linked.
    #[arg(value_enum)]
    shape: LabShape,

    /// How many servers, for mesh, ring and peers [default: 3, for peers 2].
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(2..=4))]
    servers: Option<u8>,

    /// Something to set up wrong, for mesh and peers.
    #[arg(long, value_name = "WHAT", value_parser = PossibleValuesParser::new(WrongLinks::ALL.map(WrongLinks::name)))]
    wrong: Option<String>,

    /// Write the topology file into this folder.
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    output: PathBuf,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum LabShape {
    /// MariaDB servers, each following each.
    Mesh,
    /// MariaDB servers, each following the one before it.
    Ring,
    /// PostgreSQL 18 servers, each subscribed to each other.
    Peers,
    /// A PostgreSQL 15 server and two subscribers, one of them with a filter and a column list.
    Publisher,
    /// MariaDB, PostgreSQL 15 and PostgreSQL 18 side by side, not linked, with the same rows.
    Mixed,
}

/// The link of so many nodes, each to each.
fn mesh(names: &[&str]) -> String {
    let names: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
    format!("[[link]]\nmesh = [{}]\ncarries = [\"stays\"]\n", names.join(", "))
}

const STAYS: &str = "[set.stays]\ntables = [\"guest\", \"stay\"]\n\n";

/// Servers by the names of their nodes.
type NamedServers = Vec<(&'static str, Server)>;

fn start(lab: &ServerLab, arguments: &Arguments) -> Result<(NamedServers, String), ServerFault> {
    let names = ["valley", "saddle", "cirque", "col"];
    let shape = arguments.shape;
    let count = arguments.servers.map_or(if shape == LabShape::Peers { 2 } else { 3 }, usize::from);
    let names = &names[..count];
    let linked = format!("{STAYS}{}", mesh(names));
    let mariadb = |settled: fn(&[Server]) -> Result<(), ServerFault>| {
        let mut servers = Vec::new();
        for (id, name) in (1..).zip(names) {
            let settings = Settings { server_id: Some(id), ..Settings::default() };
            servers.push(lab.start_with(name, ServerKind::MariaDb, &settings)?);
        }
        settled(&servers)?;
        huts::tables(&servers[0])?;
        huts::rows(&servers[0])?;
        links::mariadb_settled(&servers, Duration::from_secs(30))?;
        Ok::<_, ServerFault>(servers)
    };
    let (servers, rest) = match shape {
        LabShape::Mesh => (mariadb(links::mariadb_mesh)?, linked),
        LabShape::Ring => (mariadb(links::mariadb_ring)?, linked.replace("mesh", "ring")),
        LabShape::Peers => {
            let wanted: Vec<_> = names.iter().map(|name| (*name, ServerKind::Postgres18)).collect();
            let servers = lab.start_all(&wanted)?;
            for server in &servers {
                huts::tables(server)?;
                huts::rows(server)?;
            }
            links::postgres_peers(&servers, "guest, stay")?;
            links::postgres_settled(&servers, Duration::from_secs(30))?;
            (servers, linked)
        }
        LabShape::Publisher => (
            publisher(lab)?,
            format!(
                "{STAYS}[set.notices]\ntables = [\"trail_notice\"]\nwhere = \"published = 1\"\nwithout = [\"draft_note\"]\n\n\
                 [[link]]\nfrom = \"valley\"\nto = \"saddle\"\ncarries = [\"stays\"]\n\n\
                 [[link]]\nfrom = \"valley\"\nto = \"cirque\"\ncarries = [\"notices\"]\n"
            ),
        ),
        LabShape::Mixed => {
            let engines = [ServerKind::MariaDb, ServerKind::Postgres15, ServerKind::Postgres18];
            let wanted: Vec<_> = names.iter().copied().zip(engines).collect();
            let servers = lab.start_all(&wanted)?;
            for server in &servers {
                huts::tables(server)?;
                huts::rows(server)?;
            }
            (servers, linked)
        }
    };
    if let Some(what) =
        WrongLinks::ALL.into_iter().find(|w| Some(w.name()) == arguments.wrong.as_deref())
    {
        let fits =
            matches!(shape, LabShape::Mesh | LabShape::Peers) && what.fits(servers[0].engine());
        if !fits {
            let said = format!("these servers cannot be wrong in the way \"{}\"", what.name());
            return Err(ServerFault::Server(said));
        }
        wrong::make(what, &servers)?;
    }
    Ok((names.iter().copied().zip(servers).collect(), rest))
}

fn publisher(lab: &ServerLab) -> Result<Vec<Server>, ServerFault> {
    let engine = ServerKind::Postgres15;
    let servers = lab.start_all(&[("valley", engine), ("saddle", engine), ("cirque", engine)])?;
    for server in &servers {
        huts::tables(server)?;
    }
    huts::rows(&servers[0])?;
    links::publish(&servers[0], "stays", "guest, stay")?;
    // The filter names a column that is no part of the key, so it has to be in the identity.
    servers[0].run(
        "CREATE UNIQUE INDEX by_state ON trail_notice (id, published);\n\
         ALTER TABLE trail_notice REPLICA IDENTITY USING INDEX by_state",
    )?;
    let list = "trail_notice (id, hut, body, published) WHERE (published = 1)";
    links::publish(&servers[0], "notices", list)?;
    links::subscribe(&servers[1], &servers[0], "stays_to_saddle", "stays", "copy_data = true")?;
    links::subscribe(&servers[2], &servers[0], "notices_to_cirque", "notices", "copy_data = true")?;
    links::postgres_settled(&servers, Duration::from_secs(30))?;
    Ok(servers)
}

fn topology(nodes: &[(&str, Server)], rest: &str) -> String {
    let mut text = String::from("name = \"refuge-huts\"\n\n");
    for (name, server) in nodes {
        text.push_str(&format!(
            "[node.{name}]\nat = \"{}\"\npassword = {{ env = \"KEEN_LAB\" }}\nwrites = true\n\n",
            server.address()
        ));
    }
    text + rest
}

fn run(arguments: &Arguments) -> Result<(), Box<dyn std::error::Error>> {
    let file = arguments.output.join("keen.toml");
    if file.exists() {
        return Err(format!(
            "{} is there already; name another folder with --output",
            file.display()
        )
        .into());
    }
    let lab = ServerLab::new()?;
    let (nodes, rest) = start(&lab, arguments)?;
    fs::write(&file, topology(&nodes, &rest))?;
    let mut out = std::io::stdout();
    writeln!(out, "The servers are up. In another terminal:")?;
    writeln!(out, "  export KEEN_LAB={}", CHECKER.1)?;
    writeln!(out, "  keen audit --topology {}", file.display())?;
    writeln!(out, "Their logs are in {}; press Enter to end them.", lab.root().display())?;
    let _ended = std::io::stdin().read(&mut [0])?;
    fs::remove_file(&file)?;
    Ok(())
}

fn main() -> ExitCode {
    match run(&Arguments::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            let _unheard = writeln!(std::io::stderr(), "keen-lab: {error}");
            ExitCode::FAILURE
        }
    }
}
