//! What can be wrong with a manifest.

use std::ops::Range;

use yostel_versions::{ConstraintText, ConstraintTextError, NumberingError, VersionError};

use crate::name::{NameError, PackageName};

/// One thing wrong with a manifest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{kind}")]
pub struct ManifestProblem {
    /// Byte range in the text.
    pub span: Range<usize>,
    /// What it is.
    pub kind: ManifestProblemKind,
}

/// What can be wrong with a manifest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ManifestProblemKind {
    /// Two branches were merged and left their marks.
    #[error("the manifest holds the marks of an unfinished merge")]
    MergeMarks,
    /// Not TOML.
    #[error("this is not TOML: {0}")]
    Syntax(String),
    /// A key that means nothing here.
    #[error("{} has no key `{}`", table_words(table), key.escape_debug())]
    UnknownKey {
        /// The table, as docs/formats.md §2 has it, with `*` for a name.
        table: &'static str,
        /// The key as written.
        key: String,
        /// The known key that was probably meant.
        near: Option<&'static str>,
        /// All keys known there.
        known: Vec<&'static str>,
    },
    /// A value of another type.
    #[error("`{key}` should be {expected}, but it is {found}")]
    WrongType {
        /// The key.
        key: String,
        /// The type wanted, with its article.
        expected: &'static str,
        /// The type found, with its article.
        found: &'static str,
    },
    /// A key that must be there.
    #[error("{} lacks `{key}`", table_words(table))]
    Missing {
        /// The table, as docs/formats.md §2 has it, with `*` for a name.
        table: &'static str,
        /// The key.
        key: &'static str,
        /// A line that would do.
        example: &'static str,
    },
    /// A name that cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// A constraint that is none.
    #[error(transparent)]
    Constraint(#[from] ConstraintTextError),
    /// A version that is none.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// A numbering that cannot be.
    #[error(transparent)]
    Numbering(#[from] NumberingError),
    /// A value outside what its key allows.
    #[error("`{key}` cannot be `{}`: {reason}", value.escape_debug())]
    Value {
        /// The key.
        key: &'static str,
        /// The value as written.
        value: String,
        /// Why not.
        reason: &'static str,
    },
    /// A user, a password or a query in an address, which others would read.
    #[error("`{key}` contains a user, a password or a query, which do not belong in a manifest")]
    Secret {
        /// The key.
        key: &'static str,
        /// The value without that.
        instead: String,
    },
    /// A need that refers to what is agreed, and nothing is.
    #[error("[agreed] has no entry for {0}")]
    NotAgreed(PackageName),
    /// A need with a constraint of its own where one is agreed.
    #[error("[agreed] has {package} at {agreed}; this need differs and gives no `why`")]
    Deviates {
        /// The package.
        package: PackageName,
        /// What is agreed.
        agreed: ConstraintText,
    },
    /// A swap that leads back to where it began.
    #[error("the swap of {0} leads back to itself")]
    SwapCircle(PackageName),
    /// A package that is forced and swapped away.
    #[error("{0} is forced, but [swap] has another package stand in for it")]
    ForcedAndSwapped(PackageName),
    /// Two keys of which there can be one.
    #[error("`{one}` and `{other}` contradict each other")]
    TwoPlaces {
        /// The one.
        one: &'static str,
        /// The other.
        other: &'static str,
    },
    /// A key that says more about another, which is not there.
    #[error("`{key}` means something only beside `{owner}`")]
    Alone {
        /// The key.
        key: &'static str,
        /// The key that it belongs to.
        owner: &'static str,
    },
    /// Two needs that take one package from two places.
    #[error("{0} is taken from two places")]
    PackageInTwoPlaces(PackageName),
    /// An entry that is there twice.
    #[error("`{0}` is listed twice")]
    ListedTwice(String),
    /// A workspace below another.
    #[error("this project is one of a workspace, so it cannot be a workspace itself")]
    NestedWorkspace,
    /// Something said in one project of a workspace that binds all of them.
    #[error("`{0}` holds for all projects, so it belongs in the manifest at the root of the workspace")]
    OnlyInRoot(&'static str),
    /// A project that needs itself.
    #[error("{0} needs itself")]
    NeedsItself(PackageName),
}

fn table_words(table: &str) -> String {
    match table {
        "" => "the manifest".into(),
        "numbering" => "a numbering".into(),
        "sources.*" => "a source".into(),
        "needs.*.*" => "a need".into(),
        "alter.*" => "a local change".into(),
        "force.*" => "a forced version".into(),
        "admit.*" => "an admitted release".into(),
        "swap.*" => "a swap".into(),
        "checks.*" => "a check".into(),
        "mentions.*.*" => "a file that mentions a package".into(),
        "proposals.left-out.*" => "a package that is left out".into(),
        name => format!("[{name}]"),
    }
}
