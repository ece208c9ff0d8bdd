//! Edits of manifests, in a few words each.

use yostel_documents::Requirement;
use yostel_resolve::{Barred, RequirementEdit, RuleEdit};

use super::texts::day;

fn of(requirement: &Requirement, is_workspace: bool) -> String {
    match is_workspace {
        true => format!("{} of {}", requirement.package, requirement.asker),
        false => requirement.package.to_string(),
    }
}

/// Says an edit of a need; in a workspace, whose need it is.
pub fn edit_words(edit: &RequirementEdit, is_workspace: bool) -> String {
    match edit {
        RequirementEdit::Change { requirement, accept } => {
            format!("change {} from {} to {accept}", of(requirement, is_workspace), requirement.accept)
        }
        RequirementEdit::Drop { requirement } => {
            format!("remove {} {}", of(requirement, is_workspace), requirement.accept)
        }
    }
}

/// Says an edit of anything else that a manifest says.
pub fn rule_edit_words(edit: &RuleEdit, is_workspace: bool) -> String {
    match edit {
        RuleEdit::Agree { package, from, accept, .. } => {
            format!("agree on {accept}, in place of {from}, for {package}")
        }
        RuleEdit::SwapAccept { package, by, accept, .. } | RuleEdit::Swap { package, by, accept } => {
            format!("have {by} {accept} stand in for {package}")
        }
        RuleEdit::Unforce { package, from } => format!("force {package} {from} no longer"),
        RuleEdit::Unswap { package, by } => format!("have {by} stand in for {package} no longer"),
        RuleEdit::Admit { package, version, barred } => {
            let although = match barred {
                Barred::Withdrawn(withdrawal) => {
                    format!("although it was withdrawn {}: {}", day(withdrawal.on), withdrawal.why)
                }
                Barred::TooYoung(Some(from)) => format!("although it counts only from {}", day(*from)),
                Barred::TooYoung(None) | Barred::PublishedLater => "although it is too young".to_owned(),
            };
            format!("admit {package} {version}, {although}")
        }
        RuleEdit::Coexist { package } => format!("allow incompatible versions of {package} side by side"),
        RuleEdit::ShareRole { role } => format!("allow several packages in the role {role}"),
        RuleEdit::OnlyOn { requirement, without, .. } => {
            format!("need {} only where it is not {without}", of(requirement, is_workspace))
        }
        RuleEdit::DropPlatform { platform } => format!("serve {platform} no longer"),
        RuleEdit::Force { package, version } => format!("force {package} {version}, whatever is asked"),
    }
}
