//! Collisions: what collides, its story, and what to do.

use crate::code::Code;
use crate::collision::CollisionTold;
use crate::diagnostic::{Diagnostic, Suggestion};
use yostel_resolve::{Collision, Minimality};

use super::story::{Telling, story};
use super::{Viewpoint, count, join, tell};

/// How many of the needs that collide a headline names.
const MOST_NAMED: usize = 4;

/// How many of several collisions are told in a line each.
const MOST_LISTED: usize = 12;

/// Tells collisions: the first whole and each other in a line, or all of them whole.
pub(super) fn of_collisions(
    collision: &Collision,
    with: &Telling<'_>,
    proof: Option<String>,
    view: &Viewpoint<'_>,
) -> Vec<Diagnostic> {
    let mut told = vec![of_collision(collision, with)];
    if view.in_full {
        told.extend(collision.others.iter().map(|other| of_collision(other, with)));
    } else if !collision.others.is_empty() {
        let others = &collision.others;
        let all = if collision.more { "at least " } else { "" };
        let says = match others.len() {
            1 => format!("{all}one more collision has to be ended beside this one:"),
            more => format!("{all}{more} more collisions have to be ended beside this one:"),
        };
        let first = &mut told[0];
        first.notes.push(says.into());
        first.notes.extend(others.iter().take(MOST_LISTED).map(|other| format!("- {}", headline(other)).into()));
        if let Some(more) = others.len().checked_sub(MOST_LISTED).filter(|more| *more > 0) {
            first.notes.push(format!("- and {more} more").into());
        }
        first.next.push(Suggestion::run("yostel lock --in-full", "to see why, of each of them"));
    }
    if let (Some(folder), Some(last)) = (proof, told.last_mut()) {
        last.notes.push(format!("{folder} holds problem.cnf, variables.tsv and proof.drat").into());
    }
    told
}

fn headline(collision: &Collision) -> String {
    match &collision.requirements[..] {
        [one] => format!("{one}: no release can meet that"),
        requirements => {
            let names: Vec<String> = requirements.iter().map(|w| format!("{} {}", w.package, w.accept)).collect();
            match names.len().checked_sub(MOST_NAMED).filter(|more| *more > 1) {
                Some(more) => {
                    format!(
                        "{} and {} cannot be met together",
                        names[..MOST_NAMED].join(", "),
                        count(more, "more need")
                    )
                }
                None => format!("{} cannot be met together", join(&names)),
            }
        }
    }
}

fn of_collision(collision: &Collision, with: &Telling<'_>) -> Diagnostic {
    let next = Suggestion::run("yostel settle", "for the smallest edits that end this, each proved by resolving it");
    let mut diagnostic = tell(Code::Collision, headline(collision), next);
    diagnostic.notes = story(collision, with);
    diagnostic.collision = Some(Box::new(CollisionTold::of(collision, with.places)));
    let doubt = match collision.minimal {
        Minimality::Shown => None,
        Minimality::AsTold => Some("fewer of these needs may collide already, for another reason"),
        Minimality::Unknown => Some("some of this may not matter"),
    };
    if let Some(doubt) = doubt {
        diagnostic.notes.push(format!("{doubt}; finding out would have taken too long").into());
    }
    diagnostic
}
