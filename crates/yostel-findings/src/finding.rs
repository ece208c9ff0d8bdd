//! One thing that an audit tells, whatever its kind: with a name that stays, how bad it is, and where it comes from.

use std::collections::{BTreeMap, BTreeSet};

use yostel_documents::{Asker, Dispute, Lockfile, PackageName};
use yostel_versions::Version;

use crate::audit::{
    Advised, Concern, ConcernKind, Debt, Dedupe, Dismissed, Duplicate, LicenceTrouble, Notice, Outdated, Quiet, Rating,
    Unlicensed, UnreadAdvisory, Upkeep,
};
use crate::kind::FindingKind;
use crate::remedy::Remedy;
use crate::spot::Spot;
use crate::ways::Ways;

/// What an audit found.
#[derive(Debug)]
#[must_use = "findings must be told"]
pub struct AuditReport {
    /// The project that is worked on.
    pub project: PackageName,
    /// Whether it is one of several.
    pub is_workspace: bool,
    /// How many packages are locked.
    pub packages: usize,
    /// Packages for which something newer exists: direct ones first.
    pub outdated: Vec<Outdated>,
    /// Things that are there twice.
    pub duplicates: Vec<Duplicate>,
    /// What it would take to have one version of each package that is locked at several.
    pub dedupes: BTreeMap<PackageName, Dedupe>,
    /// Packages that no source knows any more.
    pub unknown: Vec<PackageName>,
    /// Forced versions, swaps and deviations that somebody should look after.
    pub upkeep: Vec<Upkeep>,
    /// What may go wrong one day with what is needed.
    pub concerns: Vec<Concern>,
    /// What is said of locked releases since they were published.
    pub notices: Vec<Notice>,
    /// What the lockfile says of releases, and their sources say otherwise.
    pub alarms: Vec<Dispute>,
    /// Advisories that affect what is locked, the worst first.
    pub advisories: Vec<Advised>,
    /// Advisories of which somebody says that they do not affect what is locked.
    pub dismissed: Vec<Dismissed>,
    /// Those of which somebody said so until a day that is past: they are among the others again.
    pub lapsed: Vec<Dismissed>,
    /// Advisories that could not be read.
    pub unread: Vec<UnreadAdvisory>,
    /// Locked releases whose licence is not allowed.
    pub unlicensed: Vec<Unlicensed>,
    /// Whether the project says which licences are.
    pub judges_licences: bool,
    /// Packages of which nothing new came for long.
    pub quiet: Vec<Quiet>,
    /// The way by which each package came.
    pub ways: Origins,
    /// What ends a finding, by its name, where that is known; each was tried.
    pub remedies: BTreeMap<String, Remedy>,
}

/// By which way packages came, and where that begins in a manifest.
#[derive(Debug, Clone, Default)]
pub struct Origins {
    /// From a project to who asks for the package, each asked for by the one before.
    ways: BTreeMap<PackageName, Vec<Asker>>,
    /// Where a project's need of a package is written.
    needs: BTreeMap<(PackageName, PackageName), Spot>,
}

impl Origins {
    /// Finds the shortest way to each package. `needs` says where a project, by its name, writes that it needs a package.
    pub fn of(lockfile: &Lockfile, needs: BTreeMap<(PackageName, PackageName), Spot>) -> Self {
        let ways = Ways::of(lockfile);
        let names = lockfile.chosen.keys();
        let ways = names.map(|name| (name.clone(), ways.to(ways.nearest_asker(name)))).collect();
        Self { ways, needs }
    }

    /// Returns the way by which a package came: from a project to who asks for it.
    pub fn way_to(&self, package: &PackageName) -> &[Asker] {
        self.ways.get(package).map_or(&[], Vec::as_slice)
    }

    /// Returns where the need is written with which the way to a package begins.
    pub fn place_of(&self, package: &PackageName) -> Option<&Spot> {
        let way = self.way_to(package);
        let (first, second) = (way.first()?, way.get(1).map_or(package, Asker::name));
        self.needs.get(&(first.name().clone(), second.clone()))
    }
}

/// What a finding is about, in full.
#[derive(Debug, Clone, Copy)]
pub enum Matter<'r> {
    /// What is told differently.
    Alarm(&'r Dispute),
    /// The advisory, and the way out.
    Advisory(&'r Advised),
    /// The advisory that cannot be read.
    UnreadAdvisory(&'r UnreadAdvisory),
    /// What is said of the release.
    Notice(&'r Notice),
    /// The release, and what is wrong with its licence.
    Licence(&'r Unlicensed),
    /// The package, and when it was heard of last.
    Quiet(&'r Quiet),
    /// The package.
    Unknown(&'r PackageName),
    /// The package that is behind.
    Outdated(&'r Outdated),
    /// What is there twice, and what would join it, where that was looked for.
    Duplicate(&'r Duplicate, Option<&'r Dedupe>),
    /// The rule.
    DueRule(&'r Upkeep),
    /// What may go wrong.
    Concern(&'r Concern),
}

/// One thing that an audit tells.
#[derive(Debug, Clone)]
pub struct Finding<'r> {
    /// Its name: the same as long as the matter is the same, whatever else is found.
    pub id: String,
    /// What it is about.
    pub matter: Matter<'r>,
}

impl AuditReport {
    /// Tells whether there is anything to act on.
    pub fn has_findings(&self) -> bool {
        !self.findings().is_empty()
    }

    /// Lists all findings: by kind, those first that should be looked at first.
    pub fn findings(&self) -> Vec<Finding<'_>> {
        let notice = |withdrawn: bool| {
            self.notices.iter().filter(move |notice| notice.withdrawn.is_some() == withdrawn).map(Matter::Notice)
        };
        let duplicates = self.duplicates.iter().map(|duplicate| match duplicate {
            Duplicate::Versions { package, .. } => Matter::Duplicate(duplicate, self.dedupes.get(package)),
            _ => Matter::Duplicate(duplicate, None),
        });
        let matters = (self.alarms.iter().map(Matter::Alarm))
            .chain(self.advisories.iter().map(Matter::Advisory))
            .chain(self.unread.iter().map(Matter::UnreadAdvisory))
            .chain(notice(true))
            .chain(notice(false))
            .chain(self.unlicensed.iter().map(Matter::Licence))
            .chain(self.unknown.iter().map(Matter::Unknown))
            .chain(self.outdated.iter().map(Matter::Outdated))
            .chain(duplicates)
            .chain(self.upkeep.iter().map(Matter::DueRule))
            .chain(self.concerns.iter().map(Matter::Concern))
            .chain(self.quiet.iter().map(Matter::Quiet));
        // Of two with one name the matter is the same, as when packages hold the same files on each platform.
        let mut seen = BTreeSet::new();
        let named = matters.map(|matter| Finding { id: matter.name(), matter });
        named.filter(|finding| seen.insert(finding.id.clone())).collect()
    }

    /// Leaves only those findings that a test accepts.
    pub fn retain(&mut self, keeps: impl Fn(&Finding<'_>) -> bool) {
        let keeps_matter = |matter: Matter<'_>| keeps(&Finding { id: matter.name(), matter });
        self.alarms.retain(|alarm| keeps_matter(Matter::Alarm(alarm)));
        self.advisories.retain(|advised| keeps_matter(Matter::Advisory(advised)));
        self.unread.retain(|unread| keeps_matter(Matter::UnreadAdvisory(unread)));
        self.notices.retain(|notice| keeps_matter(Matter::Notice(notice)));
        self.unlicensed.retain(|one| keeps_matter(Matter::Licence(one)));
        self.quiet.retain(|quiet| keeps_matter(Matter::Quiet(quiet)));
        self.unknown.retain(|package| keeps_matter(Matter::Unknown(package)));
        self.outdated.retain(|outdated| keeps_matter(Matter::Outdated(outdated)));
        self.duplicates.retain(|duplicate| keeps_matter(Matter::Duplicate(duplicate, None)));
        self.upkeep.retain(|upkeep| keeps_matter(Matter::DueRule(upkeep)));
        self.concerns.retain(|concern| keeps_matter(Matter::Concern(concern)));
    }
}

impl Finding<'_> {
    /// Returns its kind.
    pub fn kind(&self) -> FindingKind {
        self.matter.kind()
    }

    /// Lists the packages that it is about.
    pub fn packages(&self) -> Vec<(&PackageName, Option<&Version>)> {
        match self.matter {
            Matter::Alarm(alarm) => vec![(&alarm.package, Some(&alarm.version))],
            Matter::Advisory(Advised { threat, .. }) => vec![(&threat.package, Some(&threat.version))],
            Matter::UnreadAdvisory(_) => Vec::new(),
            Matter::Notice(notice) => vec![(&notice.package, Some(&notice.version))],
            Matter::Licence(one) => vec![(&one.package, Some(&one.version))],
            Matter::Quiet(quiet) => vec![(&quiet.package, None)],
            Matter::Unknown(package) => vec![(package, None)],
            Matter::Outdated(outdated) => vec![(&outdated.package, Some(&outdated.locked))],
            Matter::Duplicate(Duplicate::Versions { package, versions, .. }, _) => {
                versions.iter().map(|(version, _)| (package, Some(version))).collect()
            }
            Matter::Duplicate(duplicate, _) => {
                duplicate.packages().iter().map(|(name, version)| (name, Some(version))).collect()
            }
            Matter::Concern(concern) => vec![(&concern.package, concern.version.as_ref())],
            Matter::DueRule(upkeep) => vec![(&upkeep.package, None)],
        }
    }

    /// Says how bad it is. Advisories say it themselves; one that does not counts as `High`, since nobody says that it is
    /// less.
    pub fn severity(&self) -> Rating {
        match self.matter {
            Matter::Alarm(_) => Rating::Critical,
            Matter::Advisory(Advised { threat, .. }) => threat.severity.map_or(Rating::High, |(rating, _)| rating),
            Matter::Notice(notice) if notice.withdrawn.is_some() => Rating::High,
            Matter::Licence(one) if one.trouble != LicenceTrouble::Untold => Rating::High,
            Matter::UnreadAdvisory(_) | Matter::Notice(_) | Matter::Unknown(_) | Matter::Licence(_) => Rating::Medium,
            Matter::DueRule(upkeep) if upkeep.debts.iter().any(|debt| matches!(debt, Debt::Past(_))) => Rating::Medium,
            Matter::Concern(concern) if matches!(concern.about, ConcernKind::OnlyHere { .. }) => Rating::Medium,
            Matter::Outdated(_)
            | Matter::Duplicate(..)
            | Matter::DueRule(_)
            | Matter::Quiet(_)
            | Matter::Concern(_) => Rating::Low,
        }
    }
}

impl Matter<'_> {
    fn kind(&self) -> FindingKind {
        match self {
            Self::Alarm(_) => FindingKind::Alarm,
            Self::Advisory(_) => FindingKind::Advisory,
            Self::UnreadAdvisory(_) => FindingKind::UnreadAdvisory,
            Self::Notice(notice) if notice.withdrawn.is_some() => FindingKind::Withdrawn,
            Self::Notice(_) => FindingKind::Deprecated,
            Self::Licence(_) => FindingKind::Licence,
            Self::Quiet(_) => FindingKind::Quiet,
            Self::Unknown(_) => FindingKind::Unknown,
            Self::Outdated(_) => FindingKind::Outdated,
            Self::Duplicate(Duplicate::Content { .. }, _) => FindingKind::SameContent,
            Self::Duplicate(Duplicate::Versions { .. }, _) => FindingKind::SeveralVersions,
            Self::Duplicate(Duplicate::Role { .. }, _) => FindingKind::SharedRole,
            Self::Duplicate(Duplicate::Alike { .. }, _) => FindingKind::SimilarContent,
            Self::Duplicate(Duplicate::Names { .. }, _) => FindingKind::SimilarName,
            Self::DueRule(_) => FindingKind::DueRule,
            Self::Concern(concern) => match concern.about {
                ConcernKind::Unbounded { .. } => FindingKind::Unbounded,
                ConcernKind::LowerBound { .. } => FindingKind::LowerBound,
                ConcernKind::OnlyHere { .. } => FindingKind::OnlyHere,
                ConcernKind::Unused { .. } => FindingKind::Unused,
                ConcernKind::NoProvenance => FindingKind::NoProvenance,
                ConcernKind::TooYoung { .. } => FindingKind::TooYoung,
                ConcernKind::StrayMention { .. } => FindingKind::StrayMention,
            },
        }
    }

    /// Makes a name of what the matter is, and of nothing that changes while it stays the same.
    fn name(&self) -> String {
        let names = |packages: &[(PackageName, Version)]| {
            packages.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join("+")
        };
        let kind = self.kind().word();
        match self {
            Self::Alarm(alarm) => {
                format!("{kind}:{}:{}@{}", alarm.about.word(), alarm.package, alarm.version)
            }
            Self::Advisory(Advised { threat, .. }) => {
                format!("{kind}:{}:{}@{}", threat.id, threat.package, threat.version)
            }
            Self::UnreadAdvisory(unread) => format!("{kind}:{}:{}", unread.place, unread.file),
            Self::Notice(notice) => format!("{kind}:{}@{}", notice.package, notice.version),
            Self::Licence(one) => format!("{kind}:{}@{}", one.package, one.version),
            Self::Quiet(quiet) => format!("{kind}:{}", quiet.package),
            Self::Unknown(package) => format!("{kind}:{package}"),
            Self::Outdated(outdated) => format!("{kind}:{}@{}", outdated.package, outdated.locked),
            Self::Duplicate(Duplicate::Role { role, packages }, _) => format!("{kind}:{role}:{}", names(packages)),
            Self::Duplicate(Duplicate::Versions { package, versions, .. }, _) => {
                let versions: Vec<&str> = versions.iter().map(|(version, _)| version.as_str()).collect();
                format!("{kind}:{package}@{}", versions.join("+"))
            }
            Self::Duplicate(duplicate, _) => format!("{kind}:{}", names(duplicate.packages())),
            Self::Concern(concern) => {
                let need = concern.need.as_ref().map(|need| format!(":{}:{}", need.asker.name(), need.purpose));
                let version = concern.version.as_ref().filter(|_| need.is_none()).map(|version| format!("@{version}"));
                let file = concern.about.file().map(|file| format!(":{file}")).unwrap_or_default();
                format!("{kind}:{}{}{}{file}", concern.package, version.unwrap_or_default(), need.unwrap_or_default())
            }
            Self::DueRule(upkeep) => {
                let need = upkeep.need.as_ref().map(|(project, purpose)| format!(":{project}:{purpose}"));
                format!("{kind}:{}:{}{}", upkeep.rule.word(), upkeep.package, need.unwrap_or_default())
            }
        }
    }
}
