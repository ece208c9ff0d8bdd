//! Writing a tag once, on registries where whoever writes last wins.
//!
//! The Distribution Specification has no conditional writing, and tags that are only read and written cannot make two
//! writers agree (Herlihy, Wait-free synchronization, 1991) unless something is known of time. So: whoever wants to write a
//! tag first writes a claim, a tag that nobody else writes, and then lists the tags. If there is no other claim, whoever
//! claims after that sees this one and waits. If there is one, all wait for a round in which no claim is new, and then each
//! in the order of their digests, a round apart. What must hold is that a write arrives within a round, and that listing
//! takes all of them about as long.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use yostel_documents::oci::{Blob, OciTag};

use super::reading::{Repositories, manifest_of};
use crate::fault::{WebFault, pause};
use crate::mirrors::Fault;

/// How long a write may take to arrive, where listing tags does not take a quarter of that.
const ROUND: Duration = Duration::from_secs(3);

/// How long all of it may take.
const IN_ALL: Duration = Duration::from_secs(300);

/// How often a write may fail and be tried again.
const MOST_FAILED: u32 = 3;

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
        let (mut settled, mut was_sent, mut failed) = (Instant::now(), false, 0);
        loop {
            let listed = Instant::now();
            let tags = self.tags(repository).await?.unwrap_or_default();
            match self.now_at(repository, tag).await? {
                Some(there) if there == own && was_sent => return Ok(Once::Written),
                Some(there) => return Ok(if there == own { Once::Same } else { Once::Taken }),
                None => {}
            }
            let others = tags.into_iter().filter(|other| other.starts_with(&claims_of) && *other != claim);
            let others: BTreeSet<String> = others.collect();
            if others != rivals {
                (rivals, settled) = (others, Instant::now());
            }
            let before = u32::try_from(rivals.iter().filter(|other| **other < claim).count()).unwrap_or(u32::MAX);
            // Who lists slowly writes slowly, and so do those who wait.
            let round = ROUND.max(listed.elapsed() * 4);
            let waits = if rivals.is_empty() { Duration::ZERO } else { round.saturating_mul(before.saturating_add(1)) };
            if settled.elapsed() >= waits {
                // Once only, and not for longer: what is sent again may arrive when others have gone on.
                let left = round.saturating_sub(listed.elapsed());
                let sent = tokio::time::timeout(left, self.put_manifest(repository, tag, bytes, false)).await;
                was_sent = true;
                match sent.unwrap_or_else(|_| Err(self.slow(repository, tag))) {
                    Ok(()) => {}
                    Err(Fault {
                        fault: WebFault::Status(_) | WebFault::Broken(_) | WebFault::TooManyOpen(_) | WebFault::TooSlow,
                        ..
                    }) if failed < MOST_FAILED => {
                        failed += 1;
                        // It may have arrived, or not, or yet arrive.
                        tokio::time::sleep(round).await;
                        continue;
                    }
                    Err(fault) => return Err(fault),
                }
                return match self.now_at(repository, tag).await? {
                    Some(there) if there == own => Ok(Once::Written),
                    Some(_) => Ok(Once::Taken),
                    None => Err(self.lost(repository, tag)),
                };
            }
            if Instant::now() > ends {
                return Err(self.slow(repository, tag));
            }
            tokio::time::sleep(Duration::from_millis(100) + pause(1) / 4).await;
        }
    }

    /// Returns the digest of what is under a tag: of the bytes, whatever the registry says of them.
    async fn now_at(&self, repository: &str, tag: &str) -> Result<Option<String>, Fault> {
        Ok(self.manifest(repository, tag).await?.map(|there| Blob::of(there.answer.bytes).digest))
    }

    fn slow(&self, repository: &str, tag: &str) -> Fault {
        Fault::at(format!("{}/{}", self.files.preferred(), manifest_of(repository, tag)), WebFault::TooSlow)
    }

    fn lost(&self, repository: &str, tag: &str) -> Fault {
        let address = format!("{}/{}", self.files.preferred(), manifest_of(repository, tag));
        Fault::at(address, WebFault::Unexpected("does not keep what is sent"))
    }
}
