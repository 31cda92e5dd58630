//! The demo's second scene: the lead moves to another office while guests ring, and then the network is taken apart.

use std::fs;
use std::io::Write;
use std::path::Path;

use anyhow::{Context as _, Result};
use keen_lab::handover::{Handover, RINGING};

use super::Tour;
use crate::app::output::{Needed, Output};
use crate::app::plan::Planned;
use crate::app::plan_setup::{self, without_rows};
use crate::app::run_log::RunLog;
use crate::app::scope::AuditScope;
use crate::app::topology_file::Loaded;
use crate::numbers::counted;
use crate::render::{json, text};

/// The office that is to lead.
const NEXT_LEAD: &str = "saddle";

impl<W: Write> Tour<W> {
    /// Moves the lead while the network runs and guests ring, and takes the network apart.
    pub(super) fn lead_moves(&mut self, folder: &Path, seed: u64) -> Result<()> {
        let folder = folder.join("one-lead");
        let mut scene = Handover::begin(&folder, seed)?;
        self.promote(&folder, &mut scene)?;
        self.take_apart(&folder, &mut scene)
    }

    fn promote(&mut self, folder: &Path, scene: &mut Handover) -> Result<()> {
        let (file, save) = (folder.join("keen.toml"), folder.join("lead.plan"));
        let text = format!(
            "In a second network, {}, the valley takes all bookings, and two offices keep copies. The valley's\n\
             machine is to be replaced: {NEXT_LEAD} takes over, while {} ring. While it ran, this was typed:\n  \
             $ keen plan --promote {NEXT_LEAD} --save lead.plan; keen mend lead.plan",
            folder.display(),
            counted(RINGING.unsigned_abs(), "guest", "guests")
        );
        self.step("keen plan --promote: another office takes the lead", &text)?;
        let loaded = crate::app::topology_file::topology(&file, self.terminal)?;
        let mut planned = without_rows(&loaded, &AuditScope::whole())?;
        let promotion = plan_setup::to_promote(&loaded, NEXT_LEAD)?;
        let ledger = RunLog::beside(&file);
        let how = (&promotion, None, &ledger);
        plan_setup::add_promotion(&loaded, &AuditScope::whole(), &mut planned, how, &self.stop)?;
        self.show_and_save(&loaded, &planned, &save)?;
        let carried_out = scene.run_while(|| self.carried_out(&loaded, &file, &save))?;
        writeln!(self.out, "{}", carried_out?)?;
        // What is to be done by hand.
        let after = planned.topology_after.context("the plan has no topology file")?;
        fs::write(&file, after).with_context(|| format!("cannot write {}", file.display()))?;
        writeln!(
            self.out,
            "A person puts the new topology file in place, and the same command goes on:\n"
        )?;
        let loaded = crate::app::topology_file::topology(&file, self.terminal)?;
        let carried_out = scene.run_while(|| self.carried_out(&loaded, &file, &save))?;
        writeln!(self.out, "{}", carried_out?)?;
        let held = scene.held()?;
        let held: Vec<String> = held.iter().map(|(node, rows)| format!("{node} {rows}")).collect();
        Ok(writeln!(
            self.out,
            "{} rang by now. As SQLite itself counts them: {}.\n",
            counted(scene.rang(), "guest", "guests"),
            held.join(", ")
        )?)
    }

    fn take_apart(&mut self, folder: &Path, scene: &mut Handover) -> Result<()> {
        let (file, save) = (folder.join("keen.toml"), folder.join("apart.plan"));
        let text = "Winter: the offices close, and nobody is to follow anybody any more. What is on its way arrives first.\n  \
             $ keen plan --take-apart all --save apart.plan; keen mend apart.plan";
        self.step("keen plan --take-apart: nobody follows anybody any more", text)?;
        let loaded = crate::app::topology_file::topology(&file, self.terminal)?;
        let mut planned = without_rows(&loaded, &AuditScope::whole())?;
        let apart = plan_setup::to_take_apart(&loaded.topology, &["all".to_owned()])?;
        let scope = AuditScope::whole();
        plan_setup::add_taking_apart(&loaded, &scope, &mut planned, (&apart, &[]), &self.stop)?;
        self.show_and_save(&loaded, &planned, &save)?;
        let carried_out = scene.run_while(|| self.carried_out(&loaded, &file, &save))?;
        writeln!(self.out, "{}", carried_out?)?;
        Ok(writeln!(
            self.out,
            "As SQLite itself counts them: {} in the files of the offices.\n",
            counted(scene.links_left()?, "link is left", "links are left")
        )?)
    }

    fn show_and_save(&mut self, loaded: &Loaded, planned: &Planned, save: &Path) -> Result<()> {
        let show = (usize::MAX, usize::MAX);
        let text = text::plan::write(&loaded.topology, planned, show, self.terminal.columns)?;
        writeln!(self.out, "{text}")?;
        let mut out = Output::open_file(save, &Needed::default())?;
        json::plan::lines(&loaded.topology, planned, &mut out)?;
        out.finish()
    }
}
