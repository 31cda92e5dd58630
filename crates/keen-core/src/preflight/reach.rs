//! Getting to each node.

use super::legend::{Area, OTHER_ADDRESS, UNREACHABLE};
use super::{Finding, Severity};
use crate::preflight::CheckContext;

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    for (node, look) in checks.looks {
        checks.looked(Area::Reach);
        let failed: Vec<_> =
            look.attempts.iter().filter_map(|a| Some((a, a.fault.as_ref()?))).collect();
        if look.facts.is_none() {
            for (attempt, fault) in failed {
                let mut found = fault.what.clone();
                if look.attempts.len() > 1 {
                    found = format!("at {}: {found}", attempt.address);
                }
                checks.find(
                    Finding::new(&UNREACHABLE, Severity::Stop, [*node], found)
                        .advise(None, fault.advice.clone()),
                );
            }
            continue;
        }
        if let (Some(attempt), Some((first, fault))) = (look.attempts.last(), failed.first()) {
            checks.find(
                Finding::new(
                    &OTHER_ADDRESS,
                    Severity::Note,
                    [*node],
                    format!(
                        "answered at {}, not at {}: {}",
                        attempt.address, first.address, fault.what
                    ),
                )
                .advise(None, fault.advice.clone()),
            );
        }
    }
}
