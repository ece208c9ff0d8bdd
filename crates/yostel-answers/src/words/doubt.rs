//! What is probably not meant, in a sentence.

use yostel_flows::Doubt;

/// Says what is probably not meant, and what to do, without a full stop.
pub fn doubt_words(doubt: &Doubt) -> String {
    match doubt {
        Doubt::UnmetRule { table, package, near: Some(near) } => {
            format!("[{table}] names {package}, which nothing needs; {near} is needed, if that is meant")
        }
        Doubt::UnmetRule { table, package, near: None } => {
            format!("[{table}] names {package}, which nothing needs")
        }
        Doubt::CountsNowhere(need) => {
            format!("{need} counts on none of the listed platforms, so nothing is locked for it")
        }
        Doubt::LonelyPurpose { purpose, near } => {
            format!("[needs.{purpose}] has one need; [needs.{near}] is nearly the same name, if that is meant")
        }
        Doubt::NotForHere { package, version, platform } => {
            format!("{package} {version} offers nothing for {platform}, so this machine cannot install it")
        }
    }
}
