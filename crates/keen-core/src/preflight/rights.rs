//! The rights of the accounts.

use super::legend::{Area, PASSWORD_EXPOSED, RIGHT_EXCESS, RIGHT_MISSING, TLS_UNVERIFIED};
use super::{Finding, Severity};
use crate::observe::node::Need;
use crate::preflight::CheckContext;
use crate::topology::NodeId;

pub(super) fn examine(checks: &mut CheckContext<'_>) {
    for (node, facts) in checks.nodes() {
        for need in [Need::Tables, Need::Links, Need::Journals, Need::Repairs] {
            let mut lacking = Vec::new();
            for right in facts.rights.iter().filter(|right| right.need == need) {
                match &right.held {
                    Ok(true) => checks.looked(Area::Rights),
                    Ok(false) => lacking.push(right),
                    Err(fault) => {
                        checks.could_not_look(Area::Rights, node, &right.what, fault);
                    }
                }
            }
            if lacking.is_empty() {
                continue;
            }
            checks.looked(Area::Rights);
            let level = match need {
                Need::Tables => Severity::Stop,
                Need::Links => Severity::Warn,
                // Whoever is named to carry plans out is to be able to.
                Need::Repairs if checks.topology.nodes[node].mend.is_some() => Severity::Warn,
                // keen itself never needs to write, and journals only for a part of the work.
                Need::Journals | Need::Repairs => Severity::Note,
            };
            let account = match &checks.topology.nodes[node].mend {
                Some(mend) if need == Need::Repairs => format!("the account {}", mend.user),
                _ => "the account".to_owned(),
            };
            let what = together(lacking.iter().map(|right| &right.what[..]));
            let mut finding = Finding::new(
                &RIGHT_MISSING,
                level,
                [node],
                format!("{account} may not {}: it lacks {what}", need.words()),
            )
            .will(format!("needed for {}", need.commands()));
            let mut grants: Vec<&str> = lacking.iter().map(|right| &right.grant[..]).collect();
            let mut seen: Vec<&str> = Vec::new();
            grants.retain(|grant| {
                let new = !seen.contains(grant);
                seen.push(grant);
                new
            });
            for grant in grants {
                finding = finding.run(node, grant);
            }
            checks.find(finding);
        }
        let what = "the account's other rights";
        if let Some(excess) = checks.seen(Area::Rights, node, what, &facts.excess)
            && !excess.is_empty()
        {
            checks.find(Finding::new(
                &RIGHT_EXCESS,
                Severity::Note,
                [node],
                format!("the account has far more rights than keen needs: {}", excess.join(", ")),
            ));
        }
    }
}

/// How the account's password is kept, and to whom it is shown.
pub(super) fn secrets(checks: &mut CheckContext<'_>, exposed: &[NodeId]) {
    for node in checks.looks.keys().copied().collect::<Vec<_>>() {
        let settings = &checks.topology.nodes[node];
        if exposed.contains(&node) {
            let found = "others can read the file that holds the account's password";
            checks.find(Finding::new(&PASSWORD_EXPOSED, Severity::Warn, [node], found));
        }
        if settings.tls.unverified {
            let found = "the server's certificate is not checked (tls = \"unverified\")";
            checks.find(Finding::new(&TLS_UNVERIFIED, Severity::Warn, [node], found));
        }
    }
}

/// "SELECT on guest, stay; REPLICATION" of "SELECT on guest", "SELECT on stay", "REPLICATION".
fn together<'a>(what: impl Iterator<Item = &'a str>) -> String {
    let mut groups: Vec<(&str, Vec<&str>)> = Vec::new();
    for right in what {
        let (right, table) = right.split_once(" on ").unwrap_or((right, ""));
        match groups.iter_mut().find(|(known, _)| *known == right) {
            Some((_, tables)) => tables.push(table),
            None => groups.push((right, vec![table])),
        }
    }
    let part = |(right, tables): (&str, Vec<&str>)| match &tables[..] {
        [""] => right.to_owned(),
        tables => format!("{right} on {}", tables.join(", ")),
    };
    groups.into_iter().map(part).collect::<Vec<_>>().join("; ")
}
