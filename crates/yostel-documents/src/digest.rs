//! SHA-256 digests (FIPS 180-4): of an archive, of a tree, of a text; never one type for two of them.
//!
//! The only place that knows which implementation computes them.

use std::fmt;

/// The computation, fed piece by piece.
pub struct Sha256(ring::digest::Context);

impl Default for Sha256 {
    fn default() -> Self {
        Self(ring::digest::Context::new(&ring::digest::SHA256))
    }
}

impl Sha256 {
    /// Takes in more bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// Returns the 32 bytes of the digest.
    pub fn finish(self) -> [u8; 32] {
        self.0.finish().as_ref().try_into().expect("SHA-256 has 32 bytes")
    }

    /// Digests one piece.
    pub fn of(bytes: &[u8]) -> [u8; 32] {
        let mut whole = Self::default();
        whole.update(bytes);
        whole.finish()
    }
}

/// Why a text is not a digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is not a digest: expected `sha256:` and 64 hexadecimal digits, lower-case", .0.escape_debug())]
pub struct DigestError(pub String);

const DIGITS: &[u8; 16] = b"0123456789abcdef";

/// Writes bytes as lower-case hexadecimal digits.
pub fn to_hex(bytes: &[u8]) -> String {
    let digit = |half: u8| char::from(DIGITS[usize::from(half)]);
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

fn from_hex(text: &str) -> Option<[u8; 32]> {
    let digit = |digit: u8| match digit {
        b'0'..=b'9' => Some(digit - b'0'),
        b'a'..=b'f' => Some(digit - b'a' + 10),
        _ => None,
    };
    let digits: &[u8; 64] = text.as_bytes().try_into().ok()?;
    let mut bytes = [0; 32];
    for (byte, pair) in bytes.iter_mut().zip(digits.chunks_exact(2)) {
        *byte = digit(pair[0])? << 4 | digit(pair[1])?;
    }
    Some(bytes)
}

macro_rules! digest_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name([u8; 32]);

        impl $name {
            /// Takes the 32 bytes of a finished digest.
            pub fn new(bytes: [u8; 32]) -> Self {
                Self(bytes)
            }

            /// Digests one piece.
            pub fn of(bytes: &[u8]) -> Self {
                Self(Sha256::of(bytes))
            }

            /// Reads `sha256:` and 64 digits.
            ///
            /// # Errors
            /// For anything else.
            pub fn parse(text: &str) -> Result<Self, DigestError> {
                let bytes = text.strip_prefix("sha256:").and_then(from_hex);
                bytes.map(Self).ok_or_else(|| DigestError(text.to_owned()))
            }

            /// Returns the 64 digits without the algorithm.
            pub fn to_hex(self) -> String {
                to_hex(&self.0)
            }

            /// Returns the first 12 digits: enough to tell contents apart in a path or a message.
            pub fn to_short(self) -> String {
                to_hex(&self.0[..6])
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                // Not by the formatter: a lockfile of 400 packages holds 50,000 such bytes.
                let mut digits = [0; 64];
                for (pair, byte) in digits.chunks_exact_mut(2).zip(&self.0) {
                    pair.copy_from_slice(&[DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]);
                }
                f.write_str("sha256:")?;
                f.write_str(std::str::from_utf8(&digits).expect("digits are text"))
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(self, f)
            }
        }
    };
}

digest_type!(
    /// Digest of the bytes of an archive.
    ArchiveDigest
);
digest_type!(
    /// Digest of a release's record (docs/formats.md §4).
    RecordDigest
);
digest_type!(
    /// Digest of a tree's listing (docs/formats.md §6): paths, kinds, executable bit, contents.
    TreeDigest
);
digest_type!(
    /// Digest of one file's bytes, or of a link's target.
    ContentDigest
);
digest_type!(
    /// Digest of a text that a lockfile vouches for: the lockfile itself, or the declarations.
    Seal
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_empty_digest_is_the_published_one_and_reads_back() {
        let text = "sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        assert_eq!(Seal::of(b"").to_string(), text);
        assert_eq!(Seal::parse(text), Ok(Seal::of(b"")));
        for bad in ["", "sha256:", &text[..70], &text.to_uppercase(), &text.replace("sha256", "md5")] {
            assert!(Seal::parse(bad).is_err(), "{bad}");
        }
    }
}
