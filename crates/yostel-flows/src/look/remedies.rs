//! What ends a finding: edits and commands, of what was found by resolving.

use std::collections::BTreeMap;

use yostel_documents::{EditError, remove_coexist, remove_rule};
use yostel_findings::{
    Advised, AuditReport, Concern, ConcernKind, Debt, Dedupe, Duplicate, Matter, Notice, Outdated, Remedy, TextEdit,
    Trial, Upkeep, UpkeepRule, WayOut,
};
use yostel_resolve::{RequirementEdit, Resolution};

use crate::project::LoadedProject;
use crate::project::write::edit_needs;

/// Finds what ends each finding, by its name; those for which nothing is known to are left out. `anew` is what a lock
/// without anything to keep chooses.
pub(crate) fn remedies(
    report: &AuditReport,
    project: &LoadedProject,
    anew: Option<&Resolution>,
) -> BTreeMap<String, Remedy> {
    let mut all = BTreeMap::new();
    for finding in report.findings() {
        // Where an edit cannot be written, somebody has to make it by hand.
        if let Some(remedy) = remedy_of(finding.matter, project, anew).ok().flatten() {
            all.insert(finding.id, remedy);
        }
    }
    all
}

fn remedy_of(
    matter: Matter<'_>,
    project: &LoadedProject,
    anew: Option<&Resolution>,
) -> Result<Option<Remedy>, EditError> {
    let update = |what: String| Some(Remedy { edits: Vec::new(), commands: vec![format!("yostel update{what}")] });
    let top = &project.top;
    let mut texts: BTreeMap<String, String> = BTreeMap::new();
    let mut needs: Vec<RequirementEdit> = Vec::new();
    match matter {
        Matter::Outdated(Outdated { package, accepted: Some(accepted), newest, .. }) if accepted == newest => {
            return Ok(update(format!(" {package}")));
        }
        Matter::Outdated(Outdated { tried: Some(Trial::Free { edits, .. }), .. }) if !edits.is_empty() => {
            needs.clone_from(edits);
        }
        Matter::Outdated(Outdated { package, accepted: Some(_), .. }) => return Ok(update(format!(" {package}"))),
        Matter::Advisory(Advised { way: WayOut::Fresh(_), threat }) => {
            return Ok(update(format!(" {} --advisories", threat.package)));
        }
        Matter::Notice(notice) => {
            return Ok(update(String::new()).filter(|_| anew.is_some_and(|anew| is_gone(notice, anew))));
        }
        Matter::Advisory(Advised { way: WayOut::Need { requirement, accept, .. }, .. }) => {
            needs.push(RequirementEdit::Change { requirement: requirement.clone(), accept: accept.clone() });
        }
        Matter::Duplicate(
            Duplicate::Versions { package, .. },
            Some(dedupe @ (Dedupe::ByPolicyOnly | Dedupe::Edits(_))),
        ) => {
            texts.insert(top.manifest_path(), remove_coexist(&top.text, package)?);
            if let Dedupe::Edits(edits) = dedupe {
                needs.clone_from(edits);
            }
        }
        Matter::DueRule(Upkeep { rule, package, debts, .. })
            if debts.contains(&Debt::ChangesNothing) && *rule != UpkeepRule::Deviation =>
        {
            texts.insert(top.manifest_path(), remove_rule(&top.text, rule.word(), package)?);
        }
        Matter::Concern(Concern { need: Some(need), about, .. }) => match about {
            ConcernKind::Unbounded { bounded: Some(accept) } | ConcernKind::LowerBound { raised: Some(accept), .. } => {
                needs.push(RequirementEdit::Change { requirement: need.clone(), accept: accept.clone() });
            }
            ConcernKind::Unused { .. } => needs.push(RequirementEdit::Drop { requirement: need.clone() }),
            _ => return Ok(None),
        },
        Matter::Concern(Concern { about: ConcernKind::StrayMention { says, should: Some(_), .. }, .. })
            if !says.is_empty() =>
        {
            return Ok(Some(Remedy { edits: Vec::new(), commands: vec!["yostel lock".to_owned()] }));
        }
        Matter::Concern(_)
        | Matter::Alarm(_)
        | Matter::Advisory(_)
        | Matter::UnreadAdvisory(_)
        | Matter::Licence(_)
        | Matter::Quiet(_)
        | Matter::Unknown(_)
        | Matter::Outdated(_)
        | Matter::Duplicate(..)
        | Matter::DueRule(_) => return Ok(None),
    }
    if !edit_needs(project, &mut texts, &needs)? {
        return Ok(None);
    }
    let before = |file: &str| project.projects().find(|project| project.manifest_path() == file).map(|p| &p.text);
    let edits = texts.iter().filter_map(|(file, after)| TextEdit::between(file, before(file)?, after));
    Ok(Some(Remedy { edits: edits.collect(), commands: vec!["yostel lock".to_owned()] }))
}

/// Tells whether a fresh lock ends what is said of a release: what was withdrawn is not chosen anew; what is deprecated may
/// be, at another version too, unless its package is needed no more.
fn is_gone(notice: &Notice, anew: &Resolution) -> bool {
    match notice.deprecated {
        None => anew.chosen.at(&notice.package, &notice.version).is_none(),
        Some(_) => anew.chosen.get(&notice.package).is_none(),
    }
}
