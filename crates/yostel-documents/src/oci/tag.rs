//! Names of repositories and tags.

use crate::digest::{Sha256, to_hex};
use crate::name::PackageName;

/// Longest tag, in bytes.
const MOST_TAG: usize = 128;

/// Longest name of a repository, in bytes.
const MOST_REPOSITORY: usize = 255;

/// What a tag of ours stands for. Tags of releases begin with a digit, as versions do; those of other things with `_`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OciTag {
    /// A release.
    Release,
    /// Something that was said of a release.
    Statement,
    /// Who meant to write a tag, as opposed to who did.
    Claim,
    /// What all others say.
    Index,
    /// That here is a registry.
    Registry,
    /// An advisory.
    Advisory,
    /// None of ours, or in the registry's own repository a package.
    Other,
}

impl OciTag {
    /// The tag of what all others say.
    pub const INDEX: &str = "_index";

    /// The tag of what says that here is a registry.
    pub const REGISTRY: &str = "_registry";

    /// Tells what a tag in the repository of a package stands for.
    pub fn of(tag: &str) -> Self {
        match tag {
            Self::INDEX => Self::Index,
            Self::REGISTRY => Self::Registry,
            _ if tag.starts_with(|c: char| c.is_ascii_digit()) || tag.starts_with("_long-") => Self::Release,
            _ if tag.starts_with("_said-") || tag.starts_with("_for-") => Self::Statement,
            _ if tag.starts_with("_claim-") => Self::Claim,
            _ if tag.starts_with("_advisory-") => Self::Advisory,
            _ => Self::Other,
        }
    }

    /// Tells whether a text is a tag (Distribution Specification, "Pulling manifests"): `[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}`.
    pub fn is_tag(text: &str) -> bool {
        let is_fit = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
        (1..=MOST_TAG).contains(&text.len()) && text.chars().all(is_fit) && !text.starts_with(['.', '-'])
    }

    /// Returns the tag of a version: `+`, which no tag has, is `_`, and `_` is `__`. No version has two such characters in a
    /// row, so no two versions have one tag. One that would be too long is named by its digest.
    pub fn of_version(version: &str) -> String {
        let tag = version.replace('_', "__").replace('+', "_");
        if tag.len() <= MOST_TAG { tag } else { format!("_long-{}", hex(version)) }
    }

    /// Returns the tag of something that was said: its digest, so that two at once are two.
    pub fn of_statement(text: &str) -> String {
        format!("_said-{}", hex(text))
    }

    /// Returns the tag of the archive for one more platform of a version: there is only one.
    pub fn of_platform(version: &str, platform: &str) -> String {
        format!("_for-{}", hex(&format!("{version}\n{platform}")))
    }

    /// Returns what the tags begin with by which it is claimed to write a tag.
    pub fn claims_of(tag: &str) -> String {
        format!("_claim-{}-", &hex(tag)[..32])
    }

    /// Returns the tag by which it is claimed to write this, with this digest, under a tag.
    pub fn of_claim(tag: &str, manifest: &str) -> String {
        Self::claims_of(tag) + manifest.trim_start_matches("sha256:")
    }

    /// Returns the tag of a file with advisories.
    pub fn of_advisory(file: &str) -> String {
        format!("_advisory-{}", hex(file))
    }

    /// Returns the tag of a package, in the registry's own repository: names have no upper case, so `S` stands for `/`.
    pub fn of_package(package: &PackageName) -> String {
        package.as_str().replace('/', "S")
    }

    /// Reads back what [`Self::of_package`] wrote; nothing of another tag.
    pub fn package_of(tag: &str) -> Option<PackageName> {
        PackageName::parse(&tag.replace('S', "/")).ok()
    }
}

fn hex(text: &str) -> String {
    to_hex(&Sha256::of(text.as_bytes()))
}

/// Returns the name of a package's repository below a prefix.
///
/// # Errors
/// What keeps OCI registries from having a repository of such a name: they take `.`, `_`, `__` and any number of `-` between
/// letters and digits, and nothing else there.
pub fn repository_name(prefix: &str, package: &PackageName) -> Result<String, &'static str> {
    let name = format!("{prefix}/{package}");
    if name.len() > MOST_REPOSITORY {
        return Err("it would be longer than the 255 bytes that OCI registries take");
    }
    match name.split('/').all(is_component) {
        true => Ok(name),
        false => Err("OCI registries take only `.`, `_`, `__` or hyphens between letters and digits"),
    }
}

/// Tells whether a text is a component of the name of a repository (Distribution Specification, "Pulling manifests"):
/// `[a-z0-9]+((\.|_|__|-+)[a-z0-9]+)*`.
pub(super) fn is_component(text: &str) -> bool {
    let is_plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    let between = text.split(is_plain).filter(|part| !part.is_empty());
    let ends_plain = text.starts_with(is_plain) && text.ends_with(is_plain);
    ends_plain && between.into_iter().all(|part| matches!(part, "." | "_" | "__") || part.chars().all(|c| c == '-'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_version_has_a_tag_of_its_own() {
        for (version, tag) in [("1.0.0", "1.0.0"), ("1.0.0+build.5", "1.0.0_build.5"), ("1_0+a", "1__0_a")] {
            assert_eq!(OciTag::of_version(version), tag);
            assert_eq!(OciTag::of(tag), OciTag::Release);
            assert!(OciTag::is_tag(tag));
        }
        for text in ["", ".a", "-a", "1.0/../x", "1.0\r\nX: y", "é", "a b"] {
            assert!(!OciTag::is_tag(text), "{text}");
        }
        let long = format!("1{}", "_1".repeat(49));
        assert_eq!(OciTag::of_version(&long).len(), 70);
        assert_eq!(OciTag::of(&OciTag::of_version(&long)), OciTag::Release);
    }

    #[test]
    fn a_repository_has_a_name_that_the_specification_allows() {
        let of = |name: &str| repository_name("a/b", &PackageName::parse(name).unwrap());
        assert_eq!(of("ropeway/console").unwrap(), "a/b/ropeway/console");
        assert_eq!(of("a.b_c__d---e").unwrap(), "a/b/a.b_c__d---e");
        for name in ["a..b", "a___b", "a.-b", "a_-b"] {
            assert!(of(name).is_err(), "{name}");
        }
    }

    #[test]
    fn packages_are_read_back_from_their_tags() {
        let name = PackageName::parse("ropeway/console").unwrap();
        assert_eq!(OciTag::of_package(&name), "ropewaySconsole");
        assert_eq!(OciTag::package_of("ropewaySconsole"), Some(name));
        assert_eq!(OciTag::package_of("_registry"), None);
    }
}
