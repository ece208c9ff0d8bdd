//! Licences, as expressions of the SPDX Specification 2.3 (annex D), and which of them a project allows.
//!
//! Names are those of the SPDX licence list that the crate `spdx` holds; `LicenseRef-…` names one that is not on it.

use spdx::{Expression, Licensee, ParseMode};

/// Longest expression that is read, in bytes: one of some thousand licences is no statement that anybody can check.
pub const MOST_LICENCE: usize = 4096;

/// To the letter, but that names which the list keeps for older texts may still be used.
const MODE: ParseMode = ParseMode { allow_deprecated: true, ..ParseMode::STRICT };

/// A licence that a project allows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AllowedLicence(Licensee);

impl AllowedLicence {
    /// Reads one licence, such as `MIT` or `GPL-2.0-only WITH Classpath-exception-2.0`.
    ///
    /// # Errors
    /// What is wrong, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        Licensee::parse_mode(text, MODE).map(Self).map_err(|error| error.reason.to_string())
    }
}

/// What a project's list makes of an expression.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LicenceVerdict {
    /// What it asks for can be met with what is allowed.
    Allowed,
    /// It cannot; these licences of it are not allowed, in the order of the expression.
    NotAllowed(Vec<String>),
    /// It is no expression; why, in words.
    NoExpression(String),
}

/// Checks that a text is an expression.
///
/// # Errors
/// What is wrong, in words.
pub fn check_licence(expression: &str) -> Result<(), String> {
    match judge_licence(expression, &[]) {
        LicenceVerdict::NoExpression(why) => Err(why),
        LicenceVerdict::Allowed | LicenceVerdict::NotAllowed(_) => Ok(()),
    }
}

/// Judges an expression by what is allowed: `OR` needs one side, `AND` both. What asks for a version or a later one by `+` is
/// met by an allowed later one; GNU's `-or-later` are names of their own.
pub fn judge_licence(expression: &str, allowed: &[AllowedLicence]) -> LicenceVerdict {
    if expression.len() > MOST_LICENCE {
        return LicenceVerdict::NoExpression(format!("it has {} bytes, and {MOST_LICENCE} are read", expression.len()));
    }
    let parsed = match Expression::parse_mode(expression, MODE) {
        Ok(parsed) => parsed,
        Err(error) => return LicenceVerdict::NoExpression(error.reason.to_string()),
    };
    let judged = parsed.evaluate_with_failures(|wanted| allowed.iter().any(|one| one.0.satisfies(wanted)));
    match judged {
        Ok(()) => LicenceVerdict::Allowed,
        Err(_) => {
            let mut missing: Vec<String> = Vec::new();
            for one in parsed.requirements().filter(|one| !allowed.iter().any(|allowed| allowed.0.satisfies(&one.req)))
            {
                let name = one.req.to_string();
                if !missing.contains(&name) {
                    missing.push(name);
                }
            }
            LicenceVerdict::NotAllowed(missing)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judge(expression: &str) -> LicenceVerdict {
        let allowed =
            ["MIT", "Apache-2.0", "GPL-3.0-only", "GPL-2.0-only WITH Classpath-exception-2.0", "LicenseRef-ours"];
        judge_licence(expression, &allowed.map(|text| AllowedLicence::parse(text).unwrap()))
    }

    #[test]
    fn an_expression_is_met_as_the_specification_reads_it() {
        for allowed in [
            "MIT",
            "MIT OR AGPL-3.0-only",
            "MIT AND Apache-2.0",
            "(AGPL-3.0-only OR MIT) AND Apache-2.0",
            "Apache-1.1+",
            "GPL-2.0-only WITH Classpath-exception-2.0",
            "LicenseRef-ours",
        ] {
            assert_eq!(judge(allowed), LicenceVerdict::Allowed, "{allowed}");
        }
        let not = |all: &[&str]| LicenceVerdict::NotAllowed(all.iter().map(ToString::to_string).collect());
        assert_eq!(judge("MIT AND AGPL-3.0-only"), not(&["AGPL-3.0-only"]));
        assert_eq!(judge("MPL-2.0 OR BSD-3-Clause OR MPL-2.0"), not(&["MPL-2.0", "BSD-3-Clause"]));
        assert_eq!(
            judge("GPL-2.0-only"),
            not(&["GPL-2.0-only"]),
            "an exception is allowed with what it excepts from only"
        );
        assert_eq!(judge("GPL-2.0-or-later"), not(&["GPL-2.0-or-later"]));
        assert_eq!(judge("LicenseRef-theirs"), not(&["LicenseRef-theirs"]));
    }

    #[test]
    fn what_is_no_expression_is_said_and_nothing_is_too_deep() {
        for text in ["", "MIT OR", "mit", "Apache 2", "Proprietary", "MIT/Apache-2.0", "\u{202e}TIM"] {
            assert!(matches!(judge(text), LicenceVerdict::NoExpression(_)), "{text}: {:?}", judge(text));
        }
        for text in ["MIT OR Apache-2.0", "GPL", ""] {
            assert!(AllowedLicence::parse(text).is_err(), "{text}");
        }
        let deep = format!("{}MIT{}", "(".repeat(2000), ")".repeat(2000));
        assert_eq!(judge(&deep), LicenceVerdict::Allowed);
        assert!(matches!(judge(&"(".repeat(4000)), LicenceVerdict::NoExpression(_)));
        let long = format!("MIT{}", " OR MIT".repeat(1000));
        assert!(matches!(judge(&long), LicenceVerdict::NoExpression(_)));
    }
}
