//! Tables: columns without lines, as wide as they need to be and no wider than the terminal.
//!
//! Where a terminal is narrow, columns give way in this order: words wrap, down to their longest word; then columns that
//! are [spare](Head::spare) are left out, the last first, and that is said; only then do names and numbers wrap.

use comfy_table::{
    Cell, CellAlignment, ColumnConstraint, ContentArrangement, ContentLineStyle, Table, TableStyle, Width,
};
use unicode_width::UnicodeWidthStr;

use super::{abridged, width, wrapped};
use crate::role::Role;
use crate::sanitise::{painted, sanitise};

/// Between two columns of a row, and of the headings, until the lines are painted: no text that was sanitised has them.
const BETWEEN: char = '\u{fde0}';
const BETWEEN_HEADINGS: char = '\u{fde1}';

/// Longest word that a column keeps whole: in the first place, and where there is no room even so.
const LONGEST_KEPT: [usize; 5] = [40, 30, 20, 15, 10];

/// Columns between two others, and what stays free at the right.
const GAP: usize = 2;

/// What a column holds: how it is painted, on which side it lines up, and whether it wraps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Package,
    Place,
    Change,
    Number,
    Plain,
    Words,
}

/// A column: its heading, which may be empty, and what it holds.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Head {
    title: &'static str,
    kind: Kind,
    is_spare: bool,
}

impl Head {
    const fn of(title: &'static str, kind: Kind) -> Self {
        Self { title, kind, is_spare: false }
    }

    /// Names of packages.
    pub(crate) const fn package(title: &'static str) -> Self {
        Self::of(title, Kind::Package)
    }

    /// Files, folders, and lines of files.
    pub(crate) const fn place(title: &'static str) -> Self {
        Self::of(title, Kind::Place)
    }

    /// What changes, or would.
    pub(crate) const fn change(title: &'static str) -> Self {
        Self::of(title, Kind::Change)
    }

    /// Numbers, sizes, ages.
    pub(crate) const fn number(title: &'static str) -> Self {
        Self::of(title, Kind::Number)
    }

    /// Single words and versions.
    pub(crate) const fn plain(title: &'static str) -> Self {
        Self::of(title, Kind::Plain)
    }

    /// Sentences and lists, which wrap where there is little room.
    pub(crate) const fn words(title: &'static str) -> Self {
        Self::of(title, Kind::Words)
    }

    /// The same, to be left out where there is too little room.
    pub(crate) const fn spare(self) -> Self {
        Self { is_spare: true, ..self }
    }
}

/// A table.
pub(crate) struct Columns {
    heads: Vec<Head>,
    rows: Vec<Vec<String>>,
    width: usize,
}

impl Columns {
    pub(crate) fn new(heads: impl IntoIterator<Item = Head>) -> Self {
        Self::within(width(), heads)
    }

    /// A table for so many columns of a terminal.
    pub(super) fn within(width: usize, heads: impl IntoIterator<Item = Head>) -> Self {
        Self { heads: heads.into_iter().collect(), rows: Vec::new(), width }
    }

    pub(crate) fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        self.rows.push(cells.into_iter().map(|cell| sanitise(&abridged(&cell))).collect());
    }

    /// Returns the lines, indented by two, without trailing blanks.
    pub(crate) fn finish(mut self) -> String {
        let left_out = self.leave_out();
        let longest = LONGEST_KEPT.into_iter().find(|longest| self.needed(*longest) <= self.width);
        let longest = longest.unwrap_or(LONGEST_KEPT[4]);
        let mut table = Table::new();
        let style = TableStyle::new()
            .header_lines(ContentLineStyle::none().junction(BETWEEN_HEADINGS))
            .content_lines(ContentLineStyle::none().junction(BETWEEN));
        table.load_style(style).set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(self.width - 1).unwrap_or(u16::MAX));
        if self.heads.iter().any(|head| !head.title.is_empty()) {
            table.set_header(self.heads.iter().map(|head| Cell::new(head.title.to_uppercase())));
        }
        let least: Vec<usize> = (0..self.heads.len()).map(|at| self.least(at, longest)).collect();
        table.add_rows(self.rows.into_iter().map(|row| row.into_iter().map(Cell::new)));
        for ((column, head), least) in table.column_iter_mut().zip(&self.heads).zip(least) {
            let least = u16::try_from(least + 1).unwrap_or(u16::MAX);
            column.set_padding((0, 1)).set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(least)));
            if head.kind == Kind::Number {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        let mut text: String = table.to_string().lines().map(|line| painted_line(line, &self.heads)).collect();
        if !left_out.is_empty() {
            let names: Vec<String> = left_out.iter().rev().map(|head| head.title.to_uppercase()).collect();
            let words =
                format!("no room here for {}; a wider terminal has it, and so has --format json", names.join(", "));
            text.push_str(&format!("  {}\n", painted(Role::Quiet, wrapped(&words, 2, self.width))));
        }
        text
    }

    /// How narrow the table may become, where words up to so long stay whole.
    fn needed(&self, longest: usize) -> usize {
        (0..self.heads.len()).map(|at| self.least(at, longest) + GAP).sum()
    }

    /// How narrow a column may become.
    fn least(&self, at: usize, longest: usize) -> usize {
        let head = &self.heads[at];
        let title = head.title.split(' ').map(UnicodeWidthStr::width).max().unwrap_or(0);
        let cells = self.rows.iter().filter_map(|row| row.get(at));
        let widest = match head.kind {
            Kind::Words => cells.flat_map(|cell| cell.split(' ')).map(UnicodeWidthStr::width).max(),
            _ => cells.map(|cell| cell.width()).max(),
        };
        widest.unwrap_or(0).min(longest).max(title)
    }

    /// Leaves out spare columns until the others have room; returns them, the last first.
    fn leave_out(&mut self) -> Vec<Head> {
        let mut left_out = Vec::new();
        loop {
            let spare = self.heads.iter().rposition(|head| head.is_spare);
            let is_narrow = self.needed(LONGEST_KEPT[0]) > self.width;
            let Some(spare) = spare.filter(|_| is_narrow) else { return left_out };
            left_out.push(self.heads.remove(spare));
            for row in self.rows.iter_mut().filter(|row| row.len() > spare) {
                row.remove(spare);
            }
        }
    }
}

fn painted_line(line: &str, heads: &[Head]) -> String {
    let cells = line.split([BETWEEN, BETWEEN_HEADINGS]);
    let mut text = String::from(" ");
    for (cell, head) in cells.zip(heads) {
        let role = match head.kind {
            _ if line.contains(BETWEEN_HEADINGS) => Some(Role::Quiet),
            Kind::Package => Some(Role::Package),
            Kind::Place => Some(Role::Place),
            Kind::Change => Some(Role::Changed),
            Kind::Number | Kind::Plain | Kind::Words => None,
        };
        let core = cell.trim();
        let before = cell.len() - cell.trim_start().len();
        text.push(' ');
        text.push_str(&cell[..before]);
        match role.filter(|_| !core.is_empty()) {
            Some(role) => text.push_str(&painted(role, core)),
            None => text.push_str(core),
        }
        text.push_str(&cell[before + core.len()..]);
    }
    format!("{}\n", text.trim_end())
}
