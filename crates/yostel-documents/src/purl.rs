//! Package URLs (ECMA-427, <https://github.com/package-url/purl-spec>), as far as they say which package is meant.

use std::fmt;

/// A package somewhere in the world. Qualifiers and subpaths are read and left out: they say which file of it, or where to
/// get it, and two that differ only in these are one package.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PackageUrl {
    /// The kind of package, in lower case, like `generic` or `deb`.
    kind: String,
    /// Namespace and name, parted by `/`.
    name: Vec<String>,
    /// The version; nothing when any is meant.
    version: Option<String>,
}

/// Longest package URL that is read, in bytes.
const MOST_URL: usize = 2000;

impl PackageUrl {
    /// Reads a package URL.
    ///
    /// # Errors
    /// Why it is none, in words.
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        if text.len() > MOST_URL {
            return Err("it is too long");
        }
        let rest = text.split_once(':').filter(|(scheme, _)| scheme.eq_ignore_ascii_case("pkg")).map(|(_, rest)| rest);
        let rest = rest.ok_or("it begins with `pkg:`, like pkg:generic/zlib")?.trim_start_matches('/');
        let rest = rest.rsplit_once('#').map_or(rest, |(rest, _)| rest);
        let rest = rest.rsplit_once('?').map_or(rest, |(rest, _)| rest);
        let (kind, rest) = rest.split_once('/').ok_or("behind `pkg:`, it has a type and a name, like generic/zlib")?;
        let may_be_in_a_kind = |byte: u8| byte.is_ascii_alphanumeric() || b".-+".contains(&byte);
        if !kind.starts_with(|first: char| first.is_ascii_alphabetic()) || !kind.bytes().all(may_be_in_a_kind) {
            return Err("its type is letters, digits, `.`, `-` and `+`, and begins with a letter");
        }
        let kind = kind.to_ascii_lowercase();
        let (rest, version) = match rest.rsplit_once('@') {
            Some((rest, version)) if !rest.is_empty() && !rest.ends_with('/') => (rest, Some(decoded(version)?)),
            _ => (rest, None),
        };
        let parts = rest.split('/').filter(|part| !part.is_empty()).map(decoded);
        let mut name = parts.collect::<Result<Vec<String>, &'static str>>()?;
        if name.is_empty() {
            return Err("it has no name");
        }
        normalise(&kind, &mut name);
        Ok(Self { kind, name, version: version.filter(|version| !version.is_empty()) })
    }

    /// Returns the version; nothing when any is meant.
    pub fn version(&self) -> Option<&str> {
        self.version.as_deref()
    }

    /// Returns its type, like `generic` or `deb`.
    pub fn kind(&self) -> &str {
        &self.kind
    }

    /// Returns namespace and name, parted by `/`.
    pub fn name(&self) -> String {
        self.name.join("/")
    }

    /// Decodes a part of a package URL.
    pub(crate) fn decode(text: &str) -> Result<String, &'static str> {
        decoded(text)
    }

    /// Returns which package it is, whatever the version.
    pub fn package(&self) -> Self {
        Self { version: None, ..self.clone() }
    }
}

/// Makes one of names that are one by the rules of their kind, as far as those are about case.
fn normalise(kind: &str, name: &mut [String]) {
    if ["alpm", "apk", "bitbucket", "deb", "github"].contains(&kind) {
        for part in name.iter_mut() {
            *part = part.to_lowercase();
        }
    }
}

fn decoded(text: &str) -> Result<String, &'static str> {
    let wrong = "after each `%`, it has two hexadecimal digits, and they make UTF-8";
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        rest = after;
        if *first != b'%' {
            bytes.push(*first);
            continue;
        }
        let (digits, after) = rest.split_at_checked(2).ok_or(wrong)?;
        let digits = std::str::from_utf8(digits).ok().filter(|two| two.bytes().all(|byte| byte.is_ascii_hexdigit()));
        bytes.push(u8::from_str_radix(digits.ok_or(wrong)?, 16).map_err(|_| wrong)?);
        rest = after;
    }
    String::from_utf8(bytes).map_err(|_| wrong)
}

/// Encodes all that a package URL does not take as it is: letters, digits, `.`, `-`, `_`, `~`, and `:`, which parts nothing here.
pub fn url_part(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b".-_~:".contains(&byte);
    text.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

impl fmt::Display for PackageUrl {
    /// In the canonical form of the specification.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pkg:{}", self.kind)?;
        self.name.iter().try_for_each(|part| write!(f, "/{}", url_part(part)))?;
        self.version.iter().try_for_each(|version| write!(f, "@{}", url_part(version)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn package_urls_are_read_by_the_specification_and_written_in_one_form() {
        for (text, canonical) in [
            ("pkg:generic/zlib", "pkg:generic/zlib"),
            ("PKG://GENERIC/zlib@1.3.1?download_url=https://x/y@2#a/b", "pkg:generic/zlib@1.3.1"),
            ("pkg:github/Package-URL/Purl-Spec@244fd47e", "pkg:github/package-url/purl-spec@244fd47e"),
            ("pkg:generic/%40team/animation@12.3.1", "pkg:generic/%40team/animation@12.3.1"),
            ("pkg:generic/a%20b//c", "pkg:generic/a%20b/c"),
            ("pkg:generic/@team/batik", "pkg:generic/%40team/batik"),
            ("pkg:generic/batik@1.9:beta", "pkg:generic/batik@1.9:beta"),
        ] {
            assert_eq!(PackageUrl::parse(text).map(|url| url.to_string()), Ok(canonical.to_owned()), "{text}");
        }
        for (text, why) in [
            ("zlib", "pkg:"),
            ("pkg:zlib", "a type and a name"),
            ("pkg:1a/b", "begins with a letter"),
            ("pkg:generic//", "no name"),
            ("pkg:generic/a%2", "two hexadecimal"),
            ("pkg:generic/a%+1", "two hexadecimal"),
            ("pkg:generic/a%ff", "UTF-8"),
        ] {
            assert!(PackageUrl::parse(text).is_err_and(|told| told.contains(why)), "{text}");
        }
        assert!(PackageUrl::parse(&format!("pkg:generic/{}", "a".repeat(3000))).is_err());
        let (with, without) = ("pkg:generic/zlib@1", "pkg:generic/zlib");
        assert_eq!(PackageUrl::parse(with).unwrap().package(), PackageUrl::parse(without).unwrap());
    }
}
