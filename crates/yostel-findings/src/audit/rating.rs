//! How bad something is: a word, and the CVSS score that it comes from.

use cvss::Cvss;

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rating {
    /// Not bad at all.
    None,
    /// A little.
    Low,
    /// Some.
    Medium,
    /// Much.
    High,
    /// As much as can be.
    Critical,
}

impl Rating {
    /// All of them, rising.
    pub const ALL: [Self; 5] = [Self::None, Self::Low, Self::Medium, Self::High, Self::Critical];

    /// Returns its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

/// Returns the worst of what is said, as a word and as a score from 0 to 10, as far as the methods are known.
pub fn severity_of(all: &[yostel_documents::Severity]) -> Option<(Rating, f64)> {
    let score = |one: &yostel_documents::Severity| one.score.parse::<Cvss>().ok().map(|vector| vector.score());
    let score = all.iter().filter_map(score).max_by(f64::total_cmp)?;
    // The bands of CVSS v3.1 section 5 and v4.0 section 6; version 2 has no others of its own.
    let rating = match score {
        score if score < 0.05 => Rating::None,
        score if score < 3.95 => Rating::Low,
        score if score < 6.95 => Rating::Medium,
        score if score < 8.95 => Rating::High,
        _ => Rating::Critical,
    };
    Some((rating, score))
}
