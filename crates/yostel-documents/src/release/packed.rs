//! Records of a document as texts that are packed until somebody asks: of most releases nobody wants to know more than was
//! seen when they were checked, and a large project holds a hundred thousand and more.

use std::ops::Range;
use std::sync::Arc;

use lz4_flex::block::{compress, decompress};

/// How much text is packed at once, in bytes: more packs little better, and all of it is unpacked for one record.
const BLOCK: usize = 8 << 10;

/// A text, packed.
#[derive(Debug)]
struct Block {
    packed: Box<[u8]>,
    length: usize,
}

/// A record in a block of several.
#[derive(Debug, Clone)]
pub(super) struct Packed {
    block: Arc<Block>,
    at: Range<u32>,
}

impl Packed {
    /// Returns the record.
    pub(super) fn text(&self) -> String {
        let unpacked = decompress(&self.block.packed, self.block.length);
        let mut text = String::from_utf8(unpacked.expect(PACKED)).expect(PACKED);
        text.truncate(self.at.end as usize);
        text.split_off(self.at.start as usize)
    }
}

const PACKED: &str = "it was packed here, and is kept in memory";

/// Packs records, one after the other.
#[derive(Debug, Default)]
pub(super) struct Packing {
    text: String,
    places: Vec<Range<u32>>,
    packed: Vec<Packed>,
}

impl Packing {
    /// Takes one more, which is written at the end of a text.
    pub(super) fn push(&mut self, write: impl FnOnce(&mut String)) {
        let place = |text: &String| u32::try_from(text.len()).expect("a document is far shorter");
        let start = place(&self.text);
        write(&mut self.text);
        self.places.push(start..place(&self.text));
        if self.text.len() >= BLOCK {
            self.close();
        }
    }

    /// Returns all, in the order in which they came.
    pub(super) fn finish(mut self) -> Vec<Packed> {
        self.close();
        self.packed
    }

    fn close(&mut self) {
        let packed = compress(self.text.as_bytes()).into_boxed_slice();
        let block = Arc::new(Block { packed, length: self.text.len() });
        self.text.clear();
        self.packed.extend(self.places.drain(..).map(|at| Packed { block: block.clone(), at }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_as_it_came_however_many_and_long_they_are() {
        let records: Vec<String> =
            (0..500).map(|at| format!("{{\"{at}\":\"{}\"}}", "é".repeat(at * at % 9000))).collect();
        for count in [0, 1, 2, 30, 500] {
            let mut packing = Packing::default();
            records[..count].iter().for_each(|record| packing.push(|text| text.push_str(record)));
            let texts: Vec<String> = packing.finish().iter().map(Packed::text).collect();
            assert_eq!(texts, records[..count]);
        }
    }
}
