//! `keen init`: a commented topology file to start from.

use std::io::Write as _;
use std::path::Path;

use anyhow::{Context, Result, bail};

use crate::args::{InitArgs, InitShape};
use crate::exit::Exit;
use crate::terminal::Terminal;

pub(crate) fn run(args: &InitArgs, terminal: Terminal) -> Result<Exit> {
    let path = &args.output;
    if path.exists() {
        bail!(
            "{} already exists and is left untouched: name another file with --output",
            path.display()
        );
    }
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let cannot = || format!("cannot write {}", path.display());
    let mut file =
        tempfile::Builder::new().prefix(".keen-").tempfile_in(folder).with_context(cannot)?;
    file.write_all(text(args.shape).as_bytes()).with_context(cannot)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        file.as_file().set_permissions(std::fs::Permissions::from_mode(0o644))?;
    }
    // Another process may have made the file since it was looked for.
    file.persist_noclobber(path).with_context(cannot)?;
    writeln!(
        terminal.stdout(),
        "Wrote {}. Put in your nodes and tables, then run: keen audit{}",
        path.display(),
        if path.as_os_str() == "keen.toml" {
            String::new()
        } else {
            format!(" --topology {}", path.display())
        }
    )?;
    Ok(Exit::Agree)
}

/// The whole text for a shape.
pub(crate) fn text(shape: InitShape) -> String {
    let parts = match shape {
        InitShape::Mesh => include_str!("init/mesh.toml"),
        InitShape::Ring => include_str!("init/ring.toml"),
        InitShape::Star => include_str!("init/star.toml"),
        InitShape::Hub => include_str!("init/hub.toml"),
        InitShape::Chain => include_str!("init/chain.toml"),
    };
    format!("{parts}{}", include_str!("init/tail.toml"))
}

#[cfg(test)]
mod tests {
    use clap::ValueEnum as _;

    use super::*;

    #[test]
    fn every_shape_is_a_topology_without_a_single_problem() {
        for shape in InitShape::value_variants() {
            let (topology, problems) = keen_core::topology::read(&text(*shape));
            assert_eq!(problems, [], "{shape:?}");
            assert!(topology.is_some(), "{shape:?}");
        }
    }
}
