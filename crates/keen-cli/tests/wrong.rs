//! Everything that the lab can set up wrong is found, on servers of every kind that can be wrong so.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use common::preflight::{bad, findings};
use common::servers::Network;
use keen_lab::servers::links;
use keen_lab::servers::wrong::{self, Wrong};

fn expected(wrong: Wrong) -> &'static str {
    match wrong {
        Wrong::OneWay => "stop link-one-way",
        Wrong::Stopped => "stop link-down",
        Wrong::SameId => "stop same-server-id",
        Wrong::ColumnOrder => "column-order",
        Wrong::OrphanSlot => "warn slot-unread",
        Wrong::Loop => "stop link-loop",
        Wrong::MissingTable => "stop table-missing",
        Wrong::SameNumbers => "stop counters-collide",
    }
}

#[test]
fn what_the_lab_sets_up_wrong_is_found() {
    for make in [Network::mariadb_mesh, Network::postgres_peers] {
        let engine = make().servers[0].engine();
        for wrong in Wrong::ALL.into_iter().filter(|wrong| wrong.fits(engine)) {
            let network = make();
            wrong::make(wrong, &network.servers).unwrap();
            let json = || network.keen(&["preflight", "--format", "json"]);
            links::until(common::servers::PATIENCE, wrong.name(), || {
                Ok(findings(&json()).iter().any(|finding| finding.contains(expected(wrong))))
            })
            .unwrap();
            // And nothing that has nothing to do with it.
            let run = json();
            let rest = bad(&run).len();
            assert!(rest <= 3, "{engine:?} {wrong:?}: {}", run.out);
        }
    }
}
