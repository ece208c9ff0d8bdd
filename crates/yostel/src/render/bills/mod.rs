//! Bills of materials, in the forms that others read.

pub(crate) mod cyclonedx;
pub(crate) mod spdx;

use yostel_documents::{Origin, Seal};
use yostel_findings::{Bill, is_of_the_world, without_credentials};

/// Makes a UUID of what a bill was made of, and the form it is in: version 8 of RFC 9562, of a digest.
fn uuid_of(bill: &Bill, form: &str) -> String {
    let text = format!(
        "{form}\n{}\n{}\n{}",
        bill.project.name,
        bill.project.version.as_deref().unwrap_or_default(),
        bill.seal
    );
    let digest = Seal::of(text.as_bytes()).to_hex();
    let variant = match digest.as_bytes()[16] {
        b'0' | b'4' | b'8' | b'c' => '8',
        b'1' | b'5' | b'9' | b'd' => '9',
        b'2' | b'6' | b'a' | b'e' => 'a',
        _ => 'b',
    };
    format!("{}-{}-8{}-{variant}{}-{}", &digest[..8], &digest[8..12], &digest[13..16], &digest[17..20], &digest[20..32])
}

/// Says where a package comes from, as far as that is not for this machine alone.
fn from_words(from: &Origin) -> String {
    match from {
        Origin::Source(name) => format!("source {name}"),
        Origin::Git { place, commit } => {
            let folder = place.folder.as_ref().map(|folder| format!(" folder {folder}")).unwrap_or_default();
            match is_of_the_world(&place.address) {
                true => format!("git {} at {commit}{folder}", without_credentials(&place.address)),
                false => format!("git at {commit}{folder}"),
            }
        }
        Origin::Archive { address } if is_of_the_world(address) => format!("archive {}", without_credentials(address)),
        Origin::Archive { .. } => "archive".to_owned(),
        Origin::Path { folder } if folder.starts_with('/') => "path".to_owned(),
        Origin::Path { folder } => format!("path {folder}"),
        Origin::Project { folder } => format!("project {folder}"),
    }
}

/// Encodes what no IRI may hold (RFC 3987).
fn as_iri(text: &str) -> String {
    let is_bare = |c: char| c.is_control() || c.is_whitespace() || "<>\"{}|\\^`".contains(c);
    let encoded = |c: char| c.to_string().bytes().map(|byte| format!("%{byte:02X}")).collect::<String>();
    text.chars().map(|c| if is_bare(c) { encoded(c) } else { c.to_string() }).collect()
}
