//! The lab of servers itself: it starts, links, breaks and cleans up.

#![cfg(feature = "servers")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::time::{Duration, Instant};

use keen_lab::servers::{Engine, ServerLab, Settings, huts, links};

#[test]
fn three_start() {
    let lab = ServerLab::new().unwrap();
    for engine in Engine::ALL {
        drop(lab.start(&format!("warm-{}", engine.name()), engine).unwrap());
        let t = Instant::now();
        let all = lab.start_all(&[("a", engine), ("b", engine), ("c", engine)]).unwrap();
        println!("{engine:?} {:?}", t.elapsed());
        for s in &all {
            huts::tables(s).unwrap();
            huts::rows(s).unwrap();
        }
        drop(all);
        for n in ["a", "b", "c"] {
            std::fs::remove_dir_all(lab.root().join(n)).unwrap();
        }
    }
    let _ = (Settings::default(), Duration::ZERO);
    let _ = links::mariadb_mesh;
}
