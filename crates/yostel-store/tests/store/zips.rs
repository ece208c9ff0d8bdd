//! Zip files, which tell each entry up to three times: before it, behind it, and in their directory.
//! The accident this prevents: two programs that take one file for two packages.

use std::io::Write;

use yostel_store::{AdmitError, UnpackConfig};
use zip::write::SimpleFileOptions;

use crate::attacks::{file, try_unpack, zip_of};

#[test]
fn what_a_zip_tells_behind_an_entry_must_be_what_it_tells_of_it() {
    let mut writer = zip::ZipWriter::new_stream(Vec::new());
    for (name, content) in [("a.txt", "some text"), ("b.txt", "other")] {
        writer.start_file(name, SimpleFileOptions::default()).unwrap();
        writer.write_all(content.as_bytes()).unwrap();
    }
    let streamed = writer.finish().unwrap().into_inner();
    let listing = try_unpack(&streamed, UnpackConfig::default(), |_| {}).unwrap();
    assert_eq!(listing.entries.len(), 2);
    // The mark, the checksum, and both sizes.
    let behind = streamed.windows(4).position(|bytes| bytes == b"PK\x07\x08").unwrap();
    for at in [behind + 4, behind + 8, behind + 12, behind + 15] {
        let mut changed = streamed.clone();
        changed[at] ^= 1;
        let refusal = try_unpack(&changed, UnpackConfig::default(), |_| {});
        assert!(matches!(refusal, Err(AdmitError::Refused(_))), "{at}: {refusal:?}");
    }
    // Older programs leave the mark out.
    let places =
        |of: &[u8], mark: &[u8; 4]| -> Vec<usize> { (0..of.len() - 4).filter(|at| of[*at..at + 4] == *mark).collect() };
    let mut bare = streamed.clone();
    for at in places(&streamed, b"PK\x07\x08").into_iter().rev() {
        bare.drain(at..at + 4);
    }
    let less = |bytes: &mut Vec<u8>, at: usize, by: u32| {
        let old = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
        bytes[at..at + 4].copy_from_slice(&(old - by).to_le_bytes());
    };
    let (second, end) = (places(&bare, b"PK\x01\x02")[1], bare.len() - 22);
    less(&mut bare, second + 42, 4);
    less(&mut bare, end + 16, 8);
    assert_eq!(try_unpack(&bare, UnpackConfig::default(), |_| {}).unwrap(), listing);
}

#[test]
fn a_zip_must_tell_one_story() {
    let whole = zip_of(&[file("a.txt", "some text"), file("b.txt", "other")]).unwrap();
    let directory = whole.windows(4).position(|bytes| bytes == b"PK\x01\x02").unwrap();
    let second = 1 + whole[1..].windows(4).position(|bytes| bytes == b"PK\x03\x04").unwrap();
    let end = whole.len() - 22;
    let with = |at: usize, bytes: &[u8]| {
        let mut changed = whole.clone();
        changed[at..at + bytes.len()].copy_from_slice(bytes);
        changed
    };
    // Something between two entries: later offsets are moved along, so that the directory still fits.
    let mut hidden = whole.clone();
    hidden.splice(second..second, *b"hidden!!");
    let moved = |bytes: &mut Vec<u8>, at: usize| {
        let old = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
        bytes[at..at + 4].copy_from_slice(&(old + 8).to_le_bytes());
    };
    let entry_two =
        directory + 8 + whole[directory + 1..].windows(4).position(|bytes| bytes == b"PK\x01\x02").unwrap() + 1;
    moved(&mut hidden, entry_two + 42);
    let end_moved = end + 8;
    moved(&mut hidden, end_moved + 16);
    for (what, bytes) in [
        ("another name before the entry", with(30, b"z.txt")),
        ("another method", with(8, &[1, 0])),
        ("another size", with(22, &[1, 0, 0, 0])),
        ("another checksum", with(14, &[1, 2, 3, 4])),
        ("a count too small", with(end + 8, &[1, 0, 1, 0])),
        ("a count too large", with(end + 8, &[3, 0, 3, 0])),
        ("several disks", with(end + 4, &[1, 0])),
        ("hidden between entries", hidden),
        ("two entries at one place", with(entry_two + 34, &[0, 0, 0, 0])),
    ] {
        let refusal = try_unpack(&bytes, UnpackConfig::default(), |_| {});
        assert!(matches!(refusal, Err(AdmitError::Refused(_))), "{what}: {refusal:?}");
    }
    assert_eq!(try_unpack(&whole, UnpackConfig::default(), |_| {}).unwrap().entries.len(), 2);
    let mut longer = with(22, &[12, 0, 0, 0]);
    longer[directory + 24] = 12;
    let refusal = try_unpack(&longer, UnpackConfig::default(), |_| {}).unwrap_err();
    assert!(refusal.to_string().contains("`a.txt` has another length than was announced"), "{refusal}");
    // One path twice, which a library that knows entries by name does not even tell.
    let mut twice = zip_of(&[file("a.txt", "some text"), file("b.txt", "other")]).unwrap();
    let places: Vec<usize> = (0..twice.len() - 5).filter(|at| &twice[*at..at + 5] == b"b.txt").collect();
    places.iter().for_each(|at| twice[*at] = b'a');
    let refusal = try_unpack(&twice, UnpackConfig::default(), |_| {});
    assert!(matches!(refusal, Err(AdmitError::Refused(_))), "{refusal:?}");
}
