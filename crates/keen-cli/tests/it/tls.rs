//! TLS: on, checked, with client certificates, against real servers.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::Folder;
use crate::common::mending;
use crate::common::servers::{Network, mesh_of};
use crate::mend_linking::more_rights;
use keen_testkit::{ServerKind, ServerLab, Settings, huts};
use mysql::prelude::Queryable;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};

/// An authority, and what it signed.
struct Certificates {
    folder: PathBuf,
}

impl Certificates {
    fn new(folder: &Path, name: &str) -> Self {
        let folder = folder.join(name);
        fs::create_dir_all(&folder).unwrap();
        let mut params = CertificateParams::new(Vec::<String>::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, name);
        let key = KeyPair::generate().unwrap();
        fs::write(folder.join("ca.pem"), params.self_signed(&key).unwrap().pem()).unwrap();
        let issuer = Issuer::new(params, key);
        for (file, names) in [("server", vec!["localhost".to_owned()]), ("keen", vec![])] {
            let mut params = CertificateParams::new(names).unwrap();
            params.distinguished_name.push(DnType::CommonName, file);
            let key = KeyPair::generate().unwrap();
            let signed = params.signed_by(&key, &issuer).unwrap();
            fs::write(folder.join(format!("{file}.pem")), signed.pem()).unwrap();
            let path = folder.join(format!("{file}.key"));
            fs::write(&path, key.serialize_pem()).unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        }
        Self { folder }
    }

    fn file(&self, name: &str) -> String {
        self.folder.join(name).display().to_string()
    }

    /// The server reads its key itself, as the account it runs as.
    fn hand_over(&self) {
        if nix::unistd::geteuid().is_root() {
            let path = self.folder.join("server.key");
            assert!(Command::new("chown").arg("postgres").arg(path).status().unwrap().success());
        }
    }
}

fn set(folder: &Folder, tls: &str) {
    let path = folder.path("keen.toml");
    let text = fs::read_to_string(&path).unwrap();
    let kept: Vec<String> =
        text.lines()
            .filter(|line| !line.starts_with("tls = "))
            .map(|line| {
                if line.starts_with("password") {
                    format!("{line}\n{tls}")
                } else {
                    line.to_owned()
                }
            })
            .collect();
    fs::write(path, kept.join("\n").replace("127.0.0.1", "localhost") + "\n").unwrap();
}

/// Settings by which servers have these certificates: PostgreSQL, MariaDB.
fn protected(ours: &Certificates) -> [Settings; 2] {
    ours.hand_over();
    let postgres = Settings {
        lines: vec![
            "ssl = on".to_owned(),
            format!("ssl_cert_file = '{}'", ours.file("server.pem")),
            format!("ssl_key_file = '{}'", ours.file("server.key")),
            format!("ssl_ca_file = '{}'", ours.file("ca.pem")),
        ],
        ..Settings::default()
    };
    let mariadb = Settings {
        lines: vec![
            format!("ssl_cert={}", ours.file("server.pem")),
            format!("ssl_key={}", ours.file("server.key")),
            format!("ssl_ca={}", ours.file("ca.pem")),
        ],
        ..Settings::default()
    };
    [postgres, mariadb]
}

/// A link to a source whose own line is protected is protected, too.
#[test]
fn a_link_is_encrypted_where_its_source_is() {
    for (kind, at) in [(ServerKind::Postgres18, 0), (ServerKind::MariaDb, 1)] {
        let lab = ServerLab::new().unwrap();
        let ours = Certificates::new(lab.root(), "ours");
        let settings = &protected(&ours)[at];
        let servers: Vec<_> = (1..=2)
            .map(|id| {
                let settings = Settings { server_id: Some(id), ..settings.clone() };
                let server = lab.start_with(&format!("s{id}"), kind, &settings).unwrap();
                huts::tables(&server).unwrap();
                huts::rows(&server).unwrap();
                server
            })
            .collect();
        let rest = "[set.stays]\ntables = [\"guest\", \"stay\"]\n[[link]]\nfrom = \"a\"\nto = \"b\"\ncarries = [\"stays\"]\n";
        let rest = match kind.is_postgres() {
            true => rest.to_owned(),
            false => rest.replace("\"stay\"", "\"stay\", \"trail_notice\""),
        };
        let network = Network::new(lab, servers, &rest);
        network.is_not_written_to("b");
        set(&network.folder, &format!("tls = {{ ca = \"{}\" }}", ours.file("ca.pem")));
        mending::accounts(&network);
        more_rights(&network);
        let source = &network.servers[0];
        if !kind.is_postgres() {
            // The source lets nobody follow it otherwise.
            source.run("SET SESSION sql_log_bin = 0;\nALTER USER carrier REQUIRE SSL").unwrap();
        }
        let plan = mending::keen(&network, &["plan", "--link", "a:b", "--save", "link.plan"]);
        assert_eq!(plan.code, 1, "{plan:?}");
        let run = mending::keen(&network, &["mend", "link.plan", "--yes"]);
        assert_eq!(run.code, 0, "{run:?}");
        if kind.is_postgres() {
            let sql = "SELECT ssl FROM pg_stat_ssl JOIN pg_stat_replication USING (pid)";
            assert_eq!(mending::dump(source, sql), "(t)");
        }
    }
}

#[test]
fn connections_are_protected_and_checked() {
    let lab = ServerLab::new().unwrap();
    let ours = Certificates::new(lab.root(), "ours");
    let theirs = Certificates::new(lab.root(), "theirs");
    let [postgres, mariadb] = protected(&ours);
    let servers = vec![
        lab.start_with("p15", ServerKind::Postgres15, &postgres).unwrap(),
        lab.start_with("p18", ServerKind::Postgres18, &postgres).unwrap(),
        lab.start_with("m", ServerKind::MariaDb, &mariadb).unwrap(),
    ];
    for server in &servers {
        huts::tables(server).unwrap();
        huts::rows(server).unwrap();
    }
    let network = Network::new(lab, servers, &mesh_of(3));
    let audit = || network.keen(&["audit", "--format", "json", "--connect-timeout", "3s"]);

    set(&network.folder, &format!("tls = {{ ca = \"{}\" }}", ours.file("ca.pem")));
    let run = audit();
    assert_eq!(run.code, 0, "{run:?}");
    assert_eq!(run.out.matches(", tls\"").count(), 3, "{run:?}");

    // A certificate that somebody else signed, or none of this name.
    set(&network.folder, &format!("tls = {{ ca = \"{}\" }}", theirs.file("ca.pem")));
    let run = audit();
    assert_eq!(
        (run.code, run.out.matches("name the authority").count() >= 3),
        (3, true),
        "{run:?}"
    );
    set(&network.folder, &format!("tls = {{ ca = \"{}\" }}", ours.file("ca.pem")));
    let path = network.folder.path("keen.toml");
    let by_number = fs::read_to_string(&path).unwrap().replace("localhost", "127.0.0.1");
    fs::write(&path, by_number).unwrap();
    let run = audit();
    assert_eq!(
        (run.code, run.out.matches("by a name in the certificate").count() >= 3),
        (3, true),
        "{run:?}"
    );
    set(&network.folder, "tls = \"on\"");
    assert_eq!(audit().code, 3, "the system trusts no authority of a test");
    set(&network.folder, "tls = \"unverified\"");
    assert_eq!(audit().code, 0);

    // Accounts that must show a certificate.
    for server in &network.servers[..2] {
        let hba = server.folder().join("data/pg_hba.conf");
        let rules = fs::read_to_string(&hba).unwrap();
        fs::write(&hba, format!("hostssl all keen all scram-sha-256 clientcert=verify-ca\nhostnossl all keen all reject\n{rules}")).unwrap();
        server.run("SELECT pg_reload_conf()").unwrap();
    }
    network.servers[2].mariadb().unwrap().query_drop("ALTER USER keen REQUIRE X509").unwrap();
    set(&network.folder, &format!("tls = {{ ca = \"{}\" }}", ours.file("ca.pem")));
    let run = audit();
    assert_eq!(run.code, 3, "{run:?}");
    let certificate = format!(
        "tls = {{ ca = \"{}\", cert = \"{}\", key = \"{}\" }}",
        ours.file("ca.pem"),
        ours.file("keen.pem"),
        ours.file("keen.key")
    );
    set(&network.folder, &certificate);
    let run = audit();
    assert_eq!(run.code, 0, "{run:?}");
    set(&network.folder, "tls = \"off\"");
    assert_eq!(audit().code, 3);
    set(&network.folder, &certificate.replace("keen.key", "nowhere.key"));
    let run = audit();
    assert!(run.out.contains("nowhere.key"), "{run:?}");
}

#[test]
fn a_server_without_tls_is_not_talked_to_in_the_open() {
    let network =
        Network::alike(&[ServerKind::Postgres15, ServerKind::Postgres18, ServerKind::MariaDb]);
    set(&network.folder, "tls = \"on\"");
    let run = network.keen(&["audit", "--format", "json"]);
    assert_eq!(run.code, 3, "{run:?}");
    assert!(run.out.matches("offers no TLS").count() >= 3, "{run:?}");
}
