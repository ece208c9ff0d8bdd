//! What text is for, and how that looks.

use anstyle::{AnsiColor, Style};

/// A role that text can play; the colour follows from it. Colour never says anything that the words do not.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub(crate) enum Role {
    /// Headings, and what a failure is in one line.
    Title,
    /// What is fine, and what to do next.
    Good,
    /// What wants a look.
    Notice,
    /// What is wrong.
    Bad,
    /// What one may pass over.
    Quiet,
    /// A package's name.
    Package,
    /// A file, a folder, a line.
    Place,
    /// What changes, or would.
    Changed,
}

impl Role {
    const ALL: [Self; 8] =
        [Self::Title, Self::Good, Self::Notice, Self::Bad, Self::Quiet, Self::Package, Self::Place, Self::Changed];

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
            Self::Package => Style::new().fg_color(Some(AnsiColor::Cyan.into())),
            Self::Place => Style::new().fg_color(Some(AnsiColor::BrightBlue.into())),
            Self::Changed => Style::new().fg_color(Some(AnsiColor::Magenta.into())),
        }
    }
}
