//! What `[proposals]` says: which updates are proposed, when, how many at once, and which are taken without being asked.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use jiff::Timestamp;
use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;

use super::NamePattern;
use crate::name::{PackageName, Word};

/// How many proposals may be open when a manifest does not say.
pub const AT_ONCE: u32 = 5;

/// The `[proposals]` table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposals {
    /// When proposals are made; at any time when there are none.
    pub when: Vec<Hours>,
    /// The time zone in which these hours are.
    pub time_zone: TimeZone,
    /// How many may be open at a time.
    pub at_once: u32,
    /// Which packages are proposed: all when none is named.
    pub packages: Vec<NamePattern>,
    /// Which are not.
    pub but: Vec<NamePattern>,
    /// Packages that are proposed together, by the name of what they make.
    pub together: BTreeMap<Word, Vec<NamePattern>>,
    /// Who is told.
    pub tell: Vec<String>,
    /// Days that a release must have been published before it is proposed.
    pub minimum_age_days: Option<u32>,
    /// Whether constraints of the project's own move too.
    pub edit: bool,
    /// Packages whose proposals are taken without being asked, where nothing speaks against it.
    pub unasked: Vec<NamePattern>,
    /// What is left out for a while.
    pub left_out: BTreeMap<PackageName, LeftOut>,
}

/// A package that is not proposed for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// Why.
    pub why: String,
    /// The last day on which that counts; always when there is none.
    pub until: Option<Date>,
    /// Byte range of the entry's key in the manifest.
    pub span: Range<usize>,
}

/// Hours of some days of the week.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hours {
    /// The days on which they begin.
    pub days: BTreeSet<u8>,
    /// When they begin.
    pub from: Time,
    /// When they end; on the next day where that is not later.
    pub to: Time,
}

impl Default for Proposals {
    fn default() -> Self {
        Self {
            when: Vec::new(),
            time_zone: TimeZone::UTC,
            at_once: AT_ONCE,
            packages: Vec::new(),
            but: Vec::new(),
            together: BTreeMap::new(),
            tell: Vec::new(),
            minimum_age_days: None,
            edit: false,
            unasked: Vec::new(),
            left_out: BTreeMap::new(),
        }
    }
}

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

impl Hours {
    /// Reads `mon-fri 06:00-09:00`, `sat,sun 22:00-06:00` or `daily 01:00-05:00`.
    ///
    /// # Examples
    /// ```
    /// use yostel_documents::Hours;
    /// let hours = Hours::parse("fri-mon 22:00-06:00").unwrap();
    /// assert_eq!(hours.days.into_iter().collect::<Vec<u8>>(), [0, 4, 5, 6], "counted from Monday");
    /// assert!(Hours::parse("mon 25:00-26:00").is_none());
    /// ```
    pub fn parse(text: &str) -> Option<Self> {
        let (days, hours) = text.split_once(' ')?;
        let day = |word: &str| DAYS.iter().position(|day| *day == word);
        let mut all = BTreeSet::new();
        for part in days.split(',') {
            let (first, last) = match part {
                "daily" => (0, 6),
                _ => match part.split_once('-') {
                    Some((first, last)) => (day(first)?, day(last)?),
                    None => (day(part)?, day(part)?),
                },
            };
            // From Friday to Monday goes over the end of the week.
            let count = (last + DAYS.len() - first) % DAYS.len() + 1;
            all.extend((0..count).filter_map(|at| u8::try_from((first + at) % DAYS.len()).ok()));
        }
        let (from, to) = hours.trim().split_once('-')?;
        let time = |text: &str| {
            let (hour, minute) = text.split_once(':')?;
            let digits = |text: &str| (text.len() == 2).then(|| text.parse::<i8>().ok()).flatten();
            Time::new(digits(hour)?, digits(minute)?, 0, 0).ok()
        };
        Some(Self { days: all, from: time(from)?, to: time(to)? })
    }

    fn has(&self, weekday: Weekday, time: Time) -> bool {
        let day = weekday.to_monday_zero_offset();
        let is_day = |day: i8| u8::try_from(day).is_ok_and(|day| self.days.contains(&day));
        match self.from < self.to {
            true => is_day(day) && self.from <= time && time < self.to,
            false => is_day(day) && self.from <= time || is_day((day + 6) % 7) && time < self.to,
        }
    }
}

impl Proposals {
    /// Tells whether proposals are made at a time.
    pub fn is_time(&self, now: Timestamp) -> bool {
        let there = now.to_zoned(self.time_zone.clone());
        self.when.is_empty() || self.when.iter().any(|hours| hours.has(there.weekday(), there.time()))
    }

    /// Tells whether a package may be proposed on a day.
    pub fn proposes(&self, package: &PackageName, today: Date) -> bool {
        let covers = |patterns: &[NamePattern]| patterns.iter().any(|pattern| pattern.covers(package));
        let is_left_out = self.left_out.get(package).is_some_and(|left| left.until.is_none_or(|until| today <= until));
        (self.packages.is_empty() || covers(&self.packages)) && !covers(&self.but) && !is_left_out
    }

    /// Returns what a package is proposed together with; one that is called like a group is of that group.
    pub fn group_of(&self, package: &PackageName) -> Option<&Word> {
        let named = self.together.keys().find(|name| name.as_str() == package.as_str());
        let covers = |patterns: &&Vec<NamePattern>| patterns.iter().any(|pattern| pattern.covers(package));
        named.or_else(|| self.together.iter().find(|(_, patterns)| covers(patterns)).map(|(name, _)| name))
    }

    /// Tells whether proposals of a package may be taken without being asked.
    pub fn is_unasked(&self, package: &PackageName) -> bool {
        self.unasked.iter().any(|pattern| pattern.covers(package))
    }

    /// Returns today's date where the hours are.
    pub fn today(&self, now: Timestamp) -> Date {
        now.to_zoned(self.time_zone.clone()).date()
    }
}
