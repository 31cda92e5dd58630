//! Whose clock is off: against ours, and the nodes' against each other.

use super::legend::{Area, CLOCK_OFF};
use super::{Finding, Severity};
use crate::observe::node::Clock;
use crate::preflight::CheckContext;

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    let limit = i64::try_from(checks.topology.limits.clock.as_micros()).unwrap_or(i64::MAX);
    let mut clocks = Vec::new();
    for (node, facts) in checks.nodes() {
        // Where the clock is ours there is nothing to be off by.
        if let Some(clock) = checks.seen(Area::Clocks, node, "its clock", &facts.clock) {
            clocks.push((node, clock.unwrap_or(Clock { ahead: 0, uncertain: 0 })));
        }
    }
    // Off for certain: by more than the limit even if the measurement errs as far as it can.
    let off: Vec<_> =
        clocks.iter().filter(|(_, clock)| clock.ahead.abs() - clock.uncertain > limit).collect();
    for (node, clock) in &off {
        let direction = if clock.ahead > 0 { "ahead of" } else { "behind" };
        let found = format!(
            "its clock is {} {direction} this machine's, give or take {}",
            seconds(clock.ahead.abs()),
            seconds(clock.uncertain)
        );
        checks.find(
            Finding::new(&CLOCK_OFF, Severity::Warn, [*node], found)
                .needs(format!("within {}", seconds(limit)))
                .advise(
                    Some(*node),
                    "check the machine's time synchronisation (chrony, ntpd, timedatectl)",
                ),
        );
    }
    if !off.is_empty() {
        return; // pairs follow from it
    }
    for (at, (node, clock)) in clocks.iter().enumerate() {
        for (other, others) in &clocks[..at] {
            let apart = (clock.ahead - others.ahead).abs();
            if apart - clock.uncertain - others.uncertain > limit {
                let found = format!(
                    "the clocks of {} are {} apart",
                    checks.names(&[*other, *node]),
                    seconds(apart)
                );
                checks.find(
                    Finding::new(&CLOCK_OFF, Severity::Warn, [*other, *node], found)
                        .needs(format!("within {}", seconds(limit))),
                );
            }
        }
    }
}

/// Microseconds in a unit that reads well.
pub(super) fn seconds(micros: i64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "for reading")]
    let seconds = micros as f64 / 1e6;
    match micros {
        ..10_000 => format!("{:.1} ms", seconds * 1e3),
        10_000..1_000_000 => format!("{:.0} ms", seconds * 1e3),
        1_000_000..120_000_000 => format!("{seconds:.1} s"),
        _ => format!("{:.0} min", seconds / 60.0),
    }
}
