//! The entries of a tar stream, whatever it was compressed with.

use std::io::Read;

use super::{Kind, Tree, malformed, refused};
use crate::error::{AdmitError, UnpackRefusal};

pub(super) fn unpack(stream: impl Read, tree: &mut Tree<'_>) -> Result<(), AdmitError> {
    let mut reader = tar::Archive::new(stream);
    for entry in reader.entries().map_err(malformed)? {
        let mut entry = entry.map_err(malformed)?;
        // Remarks on the whole archive (POSIX pax, type `g`), as version control writes them; nothing of them is used.
        if entry.header().entry_type() == tar::EntryType::XGlobalHeader {
            continue;
        }
        let path = entry.path_bytes().into_owned();
        let kind = match entry.header().entry_type() {
            tar::EntryType::Regular | tar::EntryType::Continuous => {
                Kind::File { program: entry.header().mode().unwrap_or(0o644) & 0o100 != 0 }
            }
            tar::EntryType::Symlink => Kind::Link,
            tar::EntryType::Directory => Kind::Folder,
            tar::EntryType::Link => Kind::Other("a hard link"),
            tar::EntryType::Fifo => Kind::Other("a pipe"),
            tar::EntryType::Block | tar::EntryType::Char => Kind::Other("a device"),
            tar::EntryType::GNUSparse => Kind::Other("a sparse file"),
            _ => Kind::Other("of an unknown kind"),
        };
        match kind {
            Kind::Link => {
                let target = entry.link_name_bytes().unwrap_or_default().into_owned();
                tree.take(&path, kind, target.len() as u64, &mut target.as_slice())?;
            }
            kind => tree.take(&path, kind, entry.size(), &mut entry)?,
        }
    }
    // What follows the last entry must be readable to its end, and must be padding.
    let mut stream = reader.into_inner();
    let mut rest = [0; 8192];
    loop {
        match stream.read(&mut rest).map_err(malformed)? {
            0 => return Ok(()),
            n if rest[..n].iter().all(|byte| *byte == 0) => {}
            _ => return Err(refused(UnpackRefusal::Malformed("data after its end".into()))),
        }
    }
}
