//! Writing a tag once, on registries where whoever writes last wins.
//!
//! The Distribution Specification has no conditional writing, and tags that are only read and written cannot make two
//! writers agree (Herlihy, Wait-free synchronization, 1991) unless something is known of time. So: whoever wants to write a
//! tag first writes a claim, a tag that nobody else writes, and then lists the tags. If there is no other claim, whoever
//! claims after that sees this one and waits. If there is one, all wait for a round in which no claim is new, and then each
//! in the order of their digests, a round apart. What must hold is that a write arrives within a round.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use yostel_documents::oci::{Blob, OciTag};

use super::reading::Repositories;
use crate::fault::{WebFault, pause};
use crate::mirrors::Fault;

/// How long a write may take to arrive.
const ROUND: Duration = Duration::from_secs(3);

/// How long all of it may take.
const IN_ALL: Duration = Duration::from_secs(300);

/// What came of writing a tag.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Once {
    /// It is there now, and was not before.
    Written,
    /// It was there already, the very same.
    Same,
    /// Another is there.
    Taken,
}

impl Repositories {
    /// Writes a manifest under a tag, unless another is there. What it is made of is there already.
    pub(super) async fn write_once(&self, repository: &str, tag: &str, bytes: &[u8]) -> Result<Once, Fault> {
        let own = Blob::of(bytes).digest;
        let claims_of = OciTag::claims_of(tag);
        let claim = OciTag::of_claim(tag, &own);
        if let Some(there) = self.now_at(repository, tag).await? {
            return Ok(if there == own { Once::Same } else { Once::Taken });
        }
        self.send_manifest(repository, &claim, bytes).await?;
        let ends = Instant::now() + IN_ALL;
        let mut rivals: BTreeSet<String> = BTreeSet::new();
        let mut settled = Instant::now();
        loop {
            let listed = Instant::now();
            let tags = self.tags(repository).await?.unwrap_or_default();
            if let Some(there) = self.now_at(repository, tag).await? {
                return Ok(if there == own { Once::Same } else { Once::Taken });
            }
            let others = tags.into_iter().filter(|other| other.starts_with(&claims_of) && *other != claim);
            let others: BTreeSet<String> = others.collect();
            if others != rivals {
                (rivals, settled) = (others, Instant::now());
            }
            let before = u32::try_from(rivals.iter().filter(|other| **other < claim).count()).unwrap_or(u32::MAX);
            let waits = if rivals.is_empty() { Duration::ZERO } else { ROUND.saturating_mul(before.saturating_add(1)) };
            if settled.elapsed() >= waits && listed.elapsed() < ROUND / 2 {
                self.send_manifest(repository, tag, bytes).await?;
                if listed.elapsed() >= ROUND {
                    // It took so long that others may have gone on.
                    tokio::time::sleep(ROUND).await;
                }
                return match self.now_at(repository, tag).await? {
                    Some(there) if there == own => Ok(Once::Written),
                    Some(_) => Ok(Once::Taken),
                    None => Err(self.lost(repository, tag)),
                };
            }
            if Instant::now() > ends {
                return Err(self.lost(repository, tag));
            }
            tokio::time::sleep(Duration::from_millis(100) + pause(1) / 4).await;
        }
    }

    /// Returns the digest of what is under a tag: of the bytes, whatever the registry says of them.
    async fn now_at(&self, repository: &str, tag: &str) -> Result<Option<String>, Fault> {
        Ok(self.manifest(repository, tag).await?.map(|there| Blob::of(there.answer.bytes).digest))
    }

    fn lost(&self, repository: &str, tag: &str) -> Fault {
        let address = format!("{}/{repository}manifests/{tag}", self.files.preferred());
        Fault::at(address, WebFault::Unexpected("does not keep what is sent"))
    }
}
