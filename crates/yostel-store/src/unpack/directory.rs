//! Whether a zip file tells one story: its directory, what is before each entry, and where entries are (APPNOTE 6.3,
//! sections 4.3.7, 4.3.9, 4.3.12, 4.3.16).
//!
//! Readers disagree about which of these counts, so a file in which they differ is one thing here and another there. Each
//! entry must be where the directory says, have the same name, flags and method there, end where the next begins, and
//! the last must end where the directory does begin: nothing is hidden between them.

use std::io::{Read, Seek, SeekFrom};

use super::zipped::broken;
use super::{malformed, refused};
use crate::error::{AdmitError, UnpackRefusal};

/// Longest directory, in bytes: it is held in memory.
const MOST_DIRECTORY: u64 = 8 << 20;

const END: &[u8] = b"PK\x05\x06";
const END_LENGTH: u64 = 22;
const CENTRAL: &[u8] = b"PK\x01\x02";
const CENTRAL_LENGTH: usize = 46;
const LOCAL: &[u8] = b"PK\x03\x04";
const LOCAL_LENGTH: u64 = 30;
const DESCRIPTOR: &[u8] = b"PK\x07\x08";

/// The flag of an entry whose sizes stand behind its content.
const SIZES_BEHIND: u16 = 1 << 3;

/// What the directory says of an entry.
struct Told {
    at: u64,
    flags: u16,
    method: u16,
    checksum: u32,
    packed: u32,
    size: u32,
    name: Vec<u8>,
}

fn number16(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

fn number32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

/// Checks the file as a whole, and returns how many entries it has. It is left at its start.
pub(super) fn check(archive: &mut (impl Read + Seek), size: u64, most: u64) -> Result<usize, AdmitError> {
    let mut end = [0; END_LENGTH as usize];
    if size < END_LENGTH {
        return Err(broken("it ends early"));
    }
    read_at(archive, size - END_LENGTH, &mut end)?;
    // A comment, or bytes after the end, could be read as something else by another reader.
    if !end.starts_with(END) {
        return Err(broken("data before its start or after its end"));
    }
    let (entries, length, begin) = (number16(&end, 10), number32(&end, 12), number32(&end, 16));
    if number16(&end, 8) == u16::MAX || entries == u16::MAX || length == u32::MAX || begin == u32::MAX {
        return Err(refused(UnpackRefusal::TooMuch { limit: 65_534, unit: "entries of a zip file" }));
    }
    if u64::from(entries) > most {
        return Err(refused(UnpackRefusal::TooMuch { limit: most, unit: "files and folders" }));
    }
    if u64::from(length) > MOST_DIRECTORY {
        return Err(refused(UnpackRefusal::TooMuch { limit: MOST_DIRECTORY, unit: "bytes of a directory" }));
    }
    if number16(&end, 4) != 0 || number16(&end, 6) != 0 || number16(&end, 8) != entries {
        return Err(broken("it is a part of several"));
    }
    if u64::from(begin) + u64::from(length) + END_LENGTH != size {
        return Err(broken("data before its start or after its end"));
    }
    let mut directory = vec![0; length as usize];
    read_at(archive, begin.into(), &mut directory)?;
    let mut told = read_directory(&directory)?;
    if told.len() != usize::from(entries) {
        return Err(broken("its directory has another number of entries than it says"));
    }
    told.sort_by_key(|entry| entry.at);
    let mut at = 0;
    for entry in &told {
        if entry.at != at {
            return Err(broken("data between its entries, or two entries at one place"));
        }
        at = check_entry(archive, entry)?;
    }
    if at != u64::from(begin) {
        return Err(broken("data between its entries and its directory"));
    }
    Ok(told.len())
}

fn read_directory(mut rest: &[u8]) -> Result<Vec<Told>, AdmitError> {
    let mut told = Vec::new();
    while !rest.is_empty() {
        if rest.len() < CENTRAL_LENGTH || !rest.starts_with(CENTRAL) {
            return Err(broken("its directory cannot be read"));
        }
        let name = CENTRAL_LENGTH + usize::from(number16(rest, 28));
        let whole = name + usize::from(number16(rest, 30)) + usize::from(number16(rest, 32));
        if rest.len() < whole {
            return Err(broken("its directory cannot be read"));
        }
        told.push(Told {
            at: number32(rest, 42).into(),
            flags: number16(rest, 8),
            method: number16(rest, 10),
            checksum: number32(rest, 16),
            packed: number32(rest, 20),
            size: number32(rest, 24),
            name: rest[CENTRAL_LENGTH..name].to_vec(),
        });
        rest = &rest[whole..];
    }
    Ok(told)
}

/// Compares what is before an entry with what the directory says; returns where the entry ends.
fn check_entry(archive: &mut (impl Read + Seek), told: &Told) -> Result<u64, AdmitError> {
    let differs = || {
        let name = String::from_utf8_lossy(&told.name[..told.name.len().min(128)]).into_owned();
        broken(&format!("`{}` is told in two ways", name.escape_debug()))
    };
    let mut head = [0; LOCAL_LENGTH as usize];
    read_at(archive, told.at, &mut head)?;
    let behind = told.flags & SIZES_BEHIND != 0;
    let sizes = (number32(&head, 14), number32(&head, 18), number32(&head, 22));
    let same_sizes = sizes == (told.checksum, told.packed, told.size) || behind && sizes == (0, 0, 0);
    if !head.starts_with(LOCAL)
        || number16(&head, 6) != told.flags
        || number16(&head, 8) != told.method
        || !same_sizes
        || usize::from(number16(&head, 26)) != told.name.len()
    {
        return Err(differs());
    }
    let mut name = vec![0; told.name.len()];
    archive.read_exact(&mut name).map_err(malformed)?;
    if name != told.name {
        return Err(differs());
    }
    let content = told.at + LOCAL_LENGTH + name.len() as u64 + u64::from(number16(&head, 28));
    let end = content + u64::from(told.packed);
    if !behind {
        return Ok(end);
    }
    // Checksum and sizes, with or without a mark before them.
    let mut descriptor = [0; 16];
    read_at(archive, end, &mut descriptor)?;
    let fields = if descriptor.starts_with(DESCRIPTOR) { 4 } else { 0 };
    let sizes = (number32(&descriptor, fields), number32(&descriptor, fields + 4), number32(&descriptor, fields + 8));
    if sizes != (told.checksum, told.packed, told.size) {
        return Err(differs());
    }
    Ok(end + fields as u64 + 12)
}

fn read_at(archive: &mut (impl Read + Seek), at: u64, into: &mut [u8]) -> Result<(), AdmitError> {
    archive.seek(SeekFrom::Start(at)).and_then(|_| archive.read_exact(into)).map_err(malformed)
}
