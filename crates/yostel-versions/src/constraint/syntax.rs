//! The grammar of constraint texts: comparators joined by `,` (and), `||` (or, binds weaker).
//!
//! What people mis-read is refused here with the readings spelled out: a bare version, a tilde.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::ops::Range;
use std::sync::Arc;

use super::condition::Condition;
use crate::version::VERSION_LIMIT;

/// Longest constraint that somebody writes, in bytes.
const ACCEPT_LIMIT: usize = 1024;

/// Most alternatives of a constraint that somebody writes. What is agreed multiplies them, so this bounds what comes of it.
const MOST_ALTERNATIVES: usize = 16;

/// Longest constraint that comes of joining others, in bytes.
const JOINED_LIMIT: usize = 64 << 10;

/// A constraint as written, its grammar checked. Cheap to clone: one text is in many releases.
///
/// Equal and ordered by its canonical text, which says all that it holds.
#[derive(Clone)]
pub struct ConstraintText(Arc<Parsed>);

struct Parsed {
    text: String,
    groups: Vec<Vec<Comparator>>,
    on: Condition,
}

/// What is between a constraint and the platforms on which it counts.
const ON: &str = " on ";

impl PartialEq for ConstraintText {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.0.text == other.0.text
    }
}

impl Eq for ConstraintText {}

impl PartialOrd for ConstraintText {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for ConstraintText {
    fn cmp(&self, other: &Self) -> Ordering {
        self.0.text.cmp(&other.0.text)
    }
}

impl Hash for ConstraintText {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.0.text.hash(state);
    }
}

impl fmt::Debug for ConstraintText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.text)
    }
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Comparator {
    pub(super) sign: Sign,
    /// Empty for `*`; without the `.*` for a prefix.
    pub(super) version: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Sign {
    Exactly,
    Not,
    Above,
    AtLeast,
    Below,
    AtMost,
    Caret,
    Prefix,
    Any,
}

impl Sign {
    pub(super) fn as_str(self) -> &'static str {
        match self {
            Self::Exactly => "=",
            Self::Not => "!=",
            Self::Above => ">",
            Self::AtLeast => ">=",
            Self::Below => "<",
            Self::AtMost => "<=",
            Self::Caret => "^",
            Self::Prefix | Self::Any => "",
        }
    }
}

/// Why a text is no constraint.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is not a constraint: {problem}", text.escape_debug())]
pub struct ConstraintTextError {
    /// The text as given.
    pub text: String,
    /// Byte range of the part at fault inside the text.
    pub span: Range<usize>,
    /// What is wrong with that part.
    pub problem: ConstraintProblem,
}

/// What is wrong with a constraint.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ConstraintProblem {
    /// Nothing is where a comparator should be.
    #[error("a comparator is missing here")]
    Missing,
    /// Longer than a constraint may be.
    #[error("it is longer than {0} bytes")]
    TooLong(usize),
    /// More alternatives than a constraint may have.
    #[error("it has more than 16 alternatives, joined by `||`")]
    TooManyAlternatives,
    /// A version that no release can have.
    #[error("a version has at most 100 bytes")]
    VersionTooLong,
    /// A version without a sign, which half of its readers take for the other thing.
    #[error("a bare version can be read in two ways")]
    BareVersion {
        /// `=V`, or `V.*` where `V` has fewer than three numbers; and `^V`.
        readings: [String; 2],
    },
    /// A tilde, whose meaning differs from tool to tool.
    #[error("`~` means different things to different people")]
    Tilde {
        /// The range written out.
        range: String,
    },
    /// A sign that is not one.
    #[error("`{0}` is not a comparison")]
    UnknownSign(String),
    /// A sign without a version behind it.
    #[error("a version is missing after `{0}`")]
    MissingVersion(&'static str),
    /// A version that cannot be one in any order.
    #[error("a version starts with a digit and holds only letters, digits, `.`, `-`, `_` and `+`")]
    NotAVersion,
    /// `*` in any place but the last.
    #[error("`*` stands alone or at the end, after a dot and without a sign, as in `1.4.*`")]
    MisplacedStar,
    /// One `|`.
    #[error("`or` is written `||`")]
    SingleBar,
    /// Something that names no platforms.
    #[error("`{0}` names no platforms")]
    NotPlatforms(String),
    /// Two comparators side by side.
    #[error("comparators are joined by `,` (and) or `||` (or)")]
    MissingComma,
}

impl ConstraintText {
    /// Reads a constraint.
    ///
    /// # Errors
    /// [`ConstraintProblem`] with the place inside the text.
    ///
    /// # Examples
    /// ```
    /// use yostel_versions::ConstraintText;
    /// assert_eq!(ConstraintText::parse(">=2.1,<3").unwrap().as_str(), ">=2.1, <3");
    /// assert!(ConstraintText::parse("1.4.2").unwrap_err().to_string().contains("two ways"));
    /// ```
    pub fn parse(text: &str) -> Result<Self, ConstraintTextError> {
        let fail = |problem| ConstraintTextError { text: text.to_owned(), span: 0..text.len(), problem };
        if text.len() > ACCEPT_LIMIT {
            return Err(fail(ConstraintProblem::TooLong(ACCEPT_LIMIT)));
        }
        let accept = Self::parse_any(text)?;
        match accept.groups().len() > MOST_ALTERNATIVES {
            true => Err(fail(ConstraintProblem::TooManyAlternatives)),
            false => Ok(accept),
        }
    }

    /// Reads a constraint that may have come of joining others, as lockfiles hold them: the limits for what somebody writes
    /// do not hold for it.
    ///
    /// # Errors
    /// As [`Self::parse`]; `TooLong` beyond 64 KiB.
    pub fn parse_joined(text: &str) -> Result<Self, ConstraintTextError> {
        if text.len() > JOINED_LIMIT {
            let text = text[..text.floor_char_boundary(80)].to_owned();
            return Err(ConstraintTextError {
                span: 0..text.len(),
                text,
                problem: ConstraintProblem::TooLong(JOINED_LIMIT),
            });
        }
        Self::parse_any(text)
    }

    fn parse_any(text: &str) -> Result<Self, ConstraintTextError> {
        let fail = |span, problem| ConstraintTextError { text: text.to_owned(), span, problem };
        let (constraint, on) = match text.split_once(ON) {
            None => (text, Condition::default()),
            Some((constraint, patterns)) => {
                let on = Condition::parse(patterns.split(',').map(str::trim));
                let start = constraint.len() + ON.len();
                (constraint, on.map_err(|one| fail(start..text.len(), ConstraintProblem::NotPlatforms(one)))?)
            }
        };
        // Thousands are kept at once, and most have one of each.
        let mut groups = Vec::with_capacity(1);
        for (group_start, group) in pieces(constraint, "||") {
            let mut comparators = Vec::with_capacity(1);
            for (start, piece) in pieces(group, ",") {
                let start = group_start + start;
                let lead = piece.len() - piece.trim_start().len();
                let span = start + lead..start + lead + piece.trim().len();
                comparators.push(parse_comparator(piece.trim()).map_err(|problem| fail(span, problem))?);
            }
            groups.push(comparators);
        }
        Ok(Self::of(groups, on))
    }

    pub(super) fn of(groups: Vec<Vec<Comparator>>, on: Condition) -> Self {
        let text = if on.is_everywhere() { write(&groups) } else { format!("{}{ON}{on}", write(&groups)) };
        Self(Arc::new(Parsed { text, groups, on }))
    }

    /// Returns the same, for the platforms of these patterns only: `linux/*`, `!windows/*`.
    ///
    /// # Errors
    /// `NotPlatforms`.
    pub fn only_on<'p>(&self, patterns: impl IntoIterator<Item = &'p str>) -> Result<Self, ConstraintTextError> {
        let on = Condition::parse(patterns.into_iter());
        let on = on.map_err(|one| ConstraintTextError {
            span: 0..one.len(),
            text: one.clone(),
            problem: ConstraintProblem::NotPlatforms(one),
        })?;
        Ok(Self::of(self.groups().to_vec(), on))
    }

    /// Returns the same, for the platforms of another.
    #[must_use]
    pub fn where_counts(&self, other: &Self) -> Self {
        if self.0.on == other.0.on { self.clone() } else { Self::of(self.groups().to_vec(), other.0.on.clone()) }
    }

    /// Returns the same, for every platform.
    #[must_use]
    pub fn everywhere(&self) -> Self {
        if self.is_everywhere() { self.clone() } else { Self::of(self.groups().to_vec(), Condition::default()) }
    }

    /// Lists the patterns of the platforms on which it counts; none when it counts everywhere.
    pub fn patterns(&self) -> Vec<String> {
        self.0.on.patterns().collect()
    }

    /// Tells whether it counts on every platform.
    pub fn is_everywhere(&self) -> bool {
        self.0.on.is_everywhere()
    }

    /// Tells whether it counts on a platform, like `linux/amd64`.
    pub fn covers(&self, platform: &str) -> bool {
        self.0.on.covers(platform)
    }

    /// Tells whether there may be a platform on which both count.
    pub fn meets(&self, other: &Self) -> bool {
        self.0.on.meets(&other.0.on)
    }

    /// Returns the constraint that accepts what both accept, wherever one of them counts.
    #[must_use]
    pub fn joined(&self, other: &Self) -> Self {
        let (one, two) = (self.everywhere(), other.everywhere());
        let both = if one == two { one } else { one.and(&two) };
        Self::of(both.groups().to_vec(), self.0.on.or(&other.0.on))
    }

    /// Returns the constraint that accepts every version but pre-releases: `*`.
    pub fn anything() -> Self {
        Self::parse("*").expect("a star is a constraint")
    }

    /// Returns the constraint that accepts what both accept, whatever the numbering; on the platforms of the first, or of the
    /// other when the first counts everywhere.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        let pairs = self.groups().iter().flat_map(|one| other.groups().iter().map(move |two| (one, two)));
        let join = |(one, two): (&Vec<Comparator>, &Vec<Comparator>)| {
            let mut joined = one.clone();
            joined.extend(two.iter().filter(|comparator| !one.contains(comparator)).cloned());
            joined
        };
        let groups: Vec<Vec<Comparator>> = pairs.map(join).collect();
        let on = if self.is_everywhere() { &other.0.on } else { &self.0.on };
        Self::of(groups, on.clone())
    }

    /// Returns the text, spaced in the one canonical way.
    pub fn as_str(&self) -> &str {
        &self.0.text
    }

    pub(super) fn on(&self) -> &Condition {
        &self.0.on
    }

    pub(super) fn groups(&self) -> &[Vec<Comparator>] {
        &self.0.groups
    }
}

/// Writes the canonical text.
fn write(groups: &[Vec<Comparator>]) -> String {
    let comparator = |c: &Comparator| match c.sign {
        Sign::Any => "*".to_owned(),
        Sign::Prefix => format!("{}.*", c.version),
        sign => format!("{}{}", sign.as_str(), c.version),
    };
    let group = |group: &Vec<Comparator>| group.iter().map(comparator).collect::<Vec<_>>().join(", ");
    groups.iter().map(group).collect::<Vec<_>>().join(" || ")
}

impl fmt::Display for ConstraintText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.text)
    }
}

/// Splits at a separator, giving each piece with its offset.
fn pieces<'a>(text: &'a str, separator: &'a str) -> impl Iterator<Item = (usize, &'a str)> {
    let mut at = 0;
    text.split(separator).map(move |piece| {
        let start = at;
        at += piece.len() + separator.len();
        (start, piece)
    })
}

fn parse_comparator(text: &str) -> Result<Comparator, ConstraintProblem> {
    if text.is_empty() {
        return Err(ConstraintProblem::Missing);
    }
    if text == "*" {
        return Ok(Comparator { sign: Sign::Any, version: String::new() });
    }
    let end = text.find(|c: char| c.is_ascii_alphanumeric() || c.is_whitespace() || c == '*').unwrap_or(text.len());
    let (sign, version) = (&text[..end], text[end..].trim());
    if sign.contains('|') {
        return Err(ConstraintProblem::SingleBar);
    }
    let sign = match sign {
        "=" | "==" => Sign::Exactly,
        "!=" => Sign::Not,
        ">" => Sign::Above,
        ">=" => Sign::AtLeast,
        "<" => Sign::Below,
        "<=" => Sign::AtMost,
        "^" => Sign::Caret,
        "~" | "~>" | "~=" => return Err(ConstraintProblem::Tilde { range: tilde_range(version) }),
        "" => Sign::Prefix,
        other => return Err(ConstraintProblem::UnknownSign(other.to_owned())),
    };
    if version.contains('|') {
        return Err(ConstraintProblem::SingleBar);
    }
    if let Some(prefix) = version.strip_suffix(".*") {
        let numbers = prefix.split('.').all(|p| !p.is_empty() && p.bytes().all(|b| b.is_ascii_digit()));
        return match (sign, numbers) {
            (Sign::Prefix, true) => Ok(Comparator { sign, version: prefix.to_owned() }),
            _ => Err(ConstraintProblem::MisplacedStar),
        };
    }
    if version.contains('*') {
        return Err(ConstraintProblem::MisplacedStar);
    }
    if version.len() > VERSION_LIMIT {
        return Err(ConstraintProblem::VersionTooLong);
    }
    if version.is_empty() {
        return Err(ConstraintProblem::MissingVersion(sign.as_str()));
    }
    if version.split_whitespace().count() > 1 || version.contains(['<', '>', '=', '^']) {
        return Err(ConstraintProblem::MissingComma);
    }
    let legal = version.bytes().all(|b| b.is_ascii_alphanumeric() || b".-_+".contains(&b));
    if !legal || !version.starts_with(|c: char| c.is_ascii_digit()) {
        return Err(ConstraintProblem::NotAVersion);
    }
    if sign == Sign::Prefix {
        // Fewer than three numbers name many versions: `=` would be refused by most numberings.
        let partial = version.split('.').count() < 3 && version.bytes().all(|b| b.is_ascii_digit() || b == b'.');
        let exact = if partial { format!("{version}.*") } else { format!("={version}") };
        return Err(ConstraintProblem::BareVersion { readings: [exact, format!("^{version}")] });
    }
    Ok(Comparator { sign, version: version.to_owned() })
}

/// Writes out the range that most people mean: the last position given may rise, or the one before it for a full version.
fn tilde_range(version: &str) -> String {
    let numbers: Option<Vec<u64>> = version.split('.').map(|part| part.parse().ok()).collect();
    match numbers.as_deref() {
        Some([major]) => format!(">={major}, <{}", major.saturating_add(1)),
        Some([major, minor, ..]) => format!(">={version}, <{major}.{}", minor.saturating_add(1)),
        _ => ">=1.4.2, <1.5".into(),
    }
}
