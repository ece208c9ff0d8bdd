//! The signs in pictures: each kind of finding and of move has a shape and a colour of its own, so that either is enough.
//! The colours are told apart by people who see few (after Okabe and Ito), and dark enough beside white.

/// A sign: how it is called in a legend, its colour, and its shape in a square of 14.
pub(crate) struct Sign {
    /// The word that an answer has for it.
    pub(crate) word: &'static str,
    /// What it means.
    pub(crate) means: &'static str,
    /// Its shape.
    shape: &'static str,
}

/// Signs of findings, the worst first.
pub(crate) const MARKS: [Sign; 7] = [
    Sign {
        word: "alarm",
        means: "lockfile and source differ",
        shape: "<path fill=\"#a0002a\" d=\"M4 0h6l4 4v6l-4 4h-6l-4-4v-6z\"/><path fill=\"#fff\" d=\"M6 2.5h2v6h-2zM6 9.7h2v2h-2z\"/>",
    },
    Sign {
        word: "advisory",
        means: "advisory",
        shape: "<path fill=\"#c24a00\" d=\"M7 0l7 13.5h-14z\"/><path fill=\"#fff\" d=\"M6.2 4.5h1.6v4.6h-1.6zM6.2 10.2h1.6v1.7h-1.6z\"/>",
    },
    Sign {
        word: "notice",
        means: "withdrawn, deprecated or quiet",
        shape: "<path stroke=\"#8f3f71\" stroke-width=\"3\" d=\"M2 2l10 10M12 2l-10 10\"/>",
    },
    Sign {
        word: "licence",
        means: "licence",
        shape: "<path fill=\"none\" stroke=\"#7a5c00\" stroke-width=\"2\" d=\"M1 1h12v12h-12z\"/><path stroke=\"#7a5c00\" stroke-width=\"2\" d=\"M4 5h6M4 9h6\"/>",
    },
    Sign {
        word: "due-rule",
        means: "rule due for review",
        shape: "<circle fill=\"none\" stroke=\"#00628f\" stroke-width=\"2\" cx=\"7\" cy=\"7\" r=\"6\"/><path fill=\"none\" stroke=\"#00628f\" stroke-width=\"2\" d=\"M7 3v4.4l3 2\"/>",
    },
    Sign {
        word: "duplicate",
        means: "there twice",
        shape: "<circle fill=\"none\" stroke=\"#006b4f\" stroke-width=\"2\" cx=\"5\" cy=\"7\" r=\"4\"/><circle fill=\"none\" stroke=\"#006b4f\" stroke-width=\"2\" cx=\"9.5\" cy=\"7\" r=\"4\"/>",
    },
    Sign {
        word: "outdated",
        means: "newer release, or unknown to all sources",
        shape: "<path fill=\"none\" stroke=\"#4f5d73\" stroke-width=\"2.4\" d=\"M1.5 8l5.5-6 5.5 6M1.5 13l5.5-6 5.5 6\"/>",
    },
];

/// Signs of moves.
pub(crate) const CHANGES: [Sign; 4] = [
    Sign {
        word: "added",
        means: "added",
        shape: "<circle fill=\"#006b4f\" cx=\"7\" cy=\"7\" r=\"7\"/><path stroke=\"#fff\" stroke-width=\"2\" d=\"M7 3v8M3 7h8\"/>",
    },
    Sign { word: "up", means: "moved up", shape: "<path fill=\"#00628f\" d=\"M7 0l7 8h-4v6h-6v-6h-4z\"/>" },
    Sign { word: "down", means: "moved down", shape: "<path fill=\"#c24a00\" d=\"M7 14l7-8h-4v-6h-6v6h-4z\"/>" },
    Sign { word: "other", means: "changed otherwise", shape: "<path fill=\"#8f3f71\" d=\"M7 0l7 7-7 7-7-7z\"/>" },
];

impl Sign {
    /// Draws it with its upper left corner somewhere.
    pub(crate) fn at(&self, x: f64, y: f64) -> String {
        format!("<g class=\"s\" transform=\"translate({x:.1} {y:.1})\">{}</g>", self.shape)
    }
}

/// Finds the sign of a word.
pub(crate) fn sign<'s>(signs: &'s [Sign], word: &str) -> Option<&'s Sign> {
    signs.iter().find(|sign| sign.word == word)
}
