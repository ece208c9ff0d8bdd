//! What text is for, and how that looks.

use anstyle::{AnsiColor, Style};

/// A role that text can play; the colour follows from it. Colour never says anything that the words do not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Role {
    Title,
    Good,
    Notice,
    Bad,
    Quiet,
}

impl Role {
    const ALL: [Self; 5] = [Self::Title, Self::Good, Self::Notice, Self::Bad, Self::Quiet];

    /// Returns the role of this number.
    pub(crate) fn of(number: u32) -> Option<Self> {
        Self::ALL.get(number as usize).copied()
    }

    /// Returns how it looks.
    pub(crate) fn style(self) -> Style {
        match self {
            Self::Title => Style::new().bold(),
            Self::Good => Style::new().fg_color(Some(AnsiColor::Green.into())),
            Self::Notice => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
            Self::Bad => Style::new().bold().fg_color(Some(AnsiColor::Red.into())),
            Self::Quiet => Style::new().dimmed(),
        }
    }
}
