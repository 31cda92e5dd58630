//! Everything that the lab can set up wrong is found, on servers of every kind that can be wrong so.

use crate::common::preflight::{bad, findings};
use crate::common::servers::Network;
use keen_testkit::links;
use keen_testkit::wrong::{self, WrongLinks};

fn expected(wrong: WrongLinks) -> &'static str {
    match wrong {
        WrongLinks::OneWay => "stop link-one-way",
        WrongLinks::Stopped => "stop link-down",
        WrongLinks::SameId => "stop same-server-id",
        WrongLinks::ColumnOrder => "column-order",
        WrongLinks::OrphanSlot => "warn slot-unread",
        WrongLinks::Loop => "stop link-loop",
        WrongLinks::MissingTable => "stop table-missing",
        WrongLinks::SameNumbers => "stop counters-collide",
    }
}

#[test]
fn what_the_lab_sets_up_wrong_is_found() {
    for make in [Network::mariadb_mesh, Network::postgres_peers] {
        let engine = make().servers[0].engine();
        for wrong in WrongLinks::ALL.into_iter().filter(|wrong| wrong.fits(engine)) {
            let network = make();
            wrong::make(wrong, &network.servers).unwrap();
            let json = || network.keen(&["preflight", "--format", "json"]);
            links::until(crate::common::servers::PATIENCE, wrong.name(), || {
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
