//! Addresses of servers, and how a connection to them is protected.

use std::ops::Range;

use toml::de::DeTable;
use url::Url;

use super::pieces::{Item, PieceReader};
use super::{Address, Engine, ServerAddress, Tls};

const SCHEMES: [(&str, Engine, u16); 4] = [
    ("postgres", Engine::Postgres, 5432),
    ("postgresql", Engine::Postgres, 5432),
    ("mariadb", Engine::MariaDb, 3306),
    ("mysql", Engine::MariaDb, 3306),
];

impl PieceReader {
    /// The server that an address names; none, with the problem noted, if it names none.
    pub(super) fn server(&mut self, text: &str, span: &Range<usize>) -> Option<Address> {
        let (scheme, _) = text.split_once("://")?;
        let (_, engine, port) = *SCHEMES.iter().find(|(known, _, _)| *known == scheme)?;
        let mut refuse = |message: &str, help: &str| {
            self.error(Some(span.clone()), message.to_owned(), Some(help.to_owned()));
        };
        let Ok(url) = Url::parse(text) else {
            refuse(
                "the address cannot be read",
                "write it as postgres://USER@HOST:PORT/DATABASE or mariadb://USER@HOST:PORT/DATABASE",
            );
            return None;
        };
        if url.password().is_some() {
            refuse(
                "the address holds a password",
                "keep it out of this file: password = { env = \"NAME\" } or { file = \"path\" }",
            );
            return None;
        }
        if url.query().is_some() || url.fragment().is_some() {
            refuse(
                "the address has options after its database",
                "end it with the database; for TLS write tls = ... on a line of its own",
            );
            return None;
        }
        let database = plain(url.path().trim_start_matches('/'));
        let host =
            url.host_str().map(|host| plain(host.trim_matches(['[', ']']))).unwrap_or_default();
        for (part, what) in
            [(&host, "host"), (&database, "database"), (&plain(url.username()), "user")]
        {
            if part.is_empty() {
                refuse(
                    &format!("the address names no {what}"),
                    &format!("write it as {scheme}://USER@HOST:PORT/DATABASE"),
                );
                return None;
            }
        }
        Some(Address::Server(ServerAddress {
            engine,
            user: plain(url.username()),
            host,
            port: url.port().unwrap_or(port),
            database,
            text: text.to_owned(),
        }))
    }

    /// `tls = "on"`, `"off"`, `"unverified"` or a table of files.
    pub(super) fn tls(&mut self, item: &Item<'_>) -> Option<Tls> {
        if let Some(table) = item.get_ref().as_table() {
            return Some(self.tls_files(table));
        }
        let (word, span) = self.string(item, "tls")?;
        match word.as_str() {
            "on" => Some(Tls { on: Some(true), ..Tls::default() }),
            "off" => Some(Tls { on: Some(false), ..Tls::default() }),
            "unverified" => Some(Tls { on: Some(true), unverified: true, ..Tls::default() }),
            _ => {
                self.error(
                    Some(span),
                    format!("tls cannot be \"{word}\""),
                    Some("use \"on\", \"off\", \"unverified\" or { ca = \"FILE\", cert = \"FILE\", key = \"FILE\" }".to_owned()),
                );
                None
            }
        }
    }

    fn tls_files(&mut self, table: &DeTable<'_>) -> Tls {
        self.known_keys(table, "tls", &["ca", "cert", "key"]);
        let mut file = |key: &str| {
            let (path, _) = table.get(key).and_then(|item| self.string(item, key))?;
            Some(path)
        };
        let (ca, cert, key) = (file("ca"), file("cert"), file("key"));
        if cert.is_some() != key.is_some() {
            let span = table.get("cert").or(table.get("key")).map(toml::Spanned::span);
            self.error(
                span,
                "a client certificate needs both its cert and its key".to_owned(),
                Some("add the other file".to_owned()),
            );
        }
        Tls { on: Some(true), unverified: false, ca, client: cert.zip(key) }
    }
}

/// The text with its percent signs resolved.
fn plain(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, tail)) = rest.split_first() {
        let code = tail.get(..2).and_then(|pair| std::str::from_utf8(pair).ok());
        match code.and_then(|pair| u8::from_str_radix(pair, 16).ok()) {
            Some(byte) if *first == b'%' => {
                bytes.push(byte);
                rest = &tail[2..];
            }
            _ => {
                bytes.push(*first);
                rest = tail;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percent_signs_stand_for_bytes() {
        assert_eq!(plain("a%20b%2fc%"), "a b/c%");
    }
}
