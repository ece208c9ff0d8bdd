//! Sets of edits that end a collision: what each is, how they are ordered, which of two is needless.

use std::collections::BTreeSet;

use yostel_documents::{PackageName, Requirement};

use crate::collision::Collision;
use crate::edits::{EditRules, RequirementEdit};
use crate::resolution::Resolution;
use crate::rule_edit::RuleEdit;

/// Edits that end a collision, and what they lead to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settling {
    /// The edits of rules, sorted.
    pub rules: Vec<RuleEdit>,
    /// The edits of needs, as they are written, sorted. None of either can be left out.
    pub needs: Vec<RequirementEdit>,
    /// The set that follows.
    pub resolution: Resolution,
    /// How many locked packages move.
    pub moved: usize,
    /// Packages of which a constraint names a pre-release.
    pub pre_releases: BTreeSet<PackageName>,
}

impl Settling {
    /// Returns how many edits there are.
    pub fn len(&self) -> usize {
        self.rules.len() + self.needs.len()
    }

    /// Tells whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Returns how many needs are removed.
    pub fn drops(&self) -> usize {
        self.needs.iter().filter(|edit| edit.is_drop()).count()
    }

    /// Returns how many versions are forced, whatever is asked.
    pub fn forces(&self) -> usize {
        self.rules.iter().filter(|edit| matches!(edit, RuleEdit::Force { .. })).count()
    }

    /// Returns how much is given up: packages of which a pre-release is accepted, and edits that are last resorts.
    pub fn last_resorts(&self) -> usize {
        self.pre_releases.len() + self.rules.iter().filter(|edit| edit.is_last_resort()).count()
    }

    /// The order in which sets are told (docs/resolution.md §5): versions that are forced, whether a wish is touched, needs
    /// that are removed, what gives something up, how many edits, of which kinds, how many packages move.
    pub(crate) fn rank(&self, rules: &EditRules) -> (usize, bool, usize, usize, usize, usize, usize) {
        let kinds = self.rules.iter().map(RuleEdit::kind).sum();
        (
            self.forces(),
            rules.touch_a_wish(&self.needs),
            self.drops(),
            self.last_resorts(),
            self.len(),
            kinds,
            self.moved,
        )
    }

    /// Tells whether it holds all edits of another set and is thereby needless. What changes a need does not include what
    /// removes it, or what gives it a pre-release.
    pub(crate) fn includes(&self, other: &Self) -> bool {
        other.rules.iter().all(|edit| self.rules.contains(edit))
            && other.pre_releases.is_subset(&self.pre_releases)
            && other.needs.iter().all(|edit| {
                let goes_as_far = |mine: &RequirementEdit| mine.is_drop() || !edit.is_drop();
                self.needs.iter().any(|mine| is_of_one_need(mine, edit.requirement()) && goes_as_far(mine))
            })
    }
}

/// Tells whether an edit is of a need, whatever other edits make of its constraint.
pub(crate) fn is_of_one_need(edit: &RequirementEdit, need: &Requirement) -> bool {
    let other = edit.requirement();
    (&other.asker, &other.purpose, &other.package) == (&need.asker, &need.purpose, &need.package)
}

/// How far it was looked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum Extent {
    /// At every set that docs/resolution.md §5 tells of.
    #[default]
    Whole,
    /// At a part, where the whole is more than anyone waits for.
    Part,
    /// As far as there was time.
    OutOfTime,
}

/// What was found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Settled {
    /// What collides; nothing when there is a set as things are.
    pub collision: Option<Box<Collision>>,
    /// Sets of edits, each of which ends it, the best first.
    pub found: Vec<Settling>,
    /// How far it was looked: there may be more unless that is the whole.
    pub extent: Extent,
}
