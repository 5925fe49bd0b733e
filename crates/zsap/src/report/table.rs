//! Aligned columns, as many as fit.

use comfy_table::{CellAlignment, Table as Grid, TableStyle};
use textwrap::core::display_width;

use super::width;
use crate::console::Console;

/// Columns stand so far apart.
const GAP: usize = 2;
/// Headings of columns that are shortened when leaving others out is not enough, as the first one is.
const NAMES: [&str; 4] = ["parent", "path", "note", "where"];
/// No name is cut to less than this.
const LEAST_NAME: usize = 12;

/// Marks of no width, which become colour when the columns stand; no text that is shown holds them.
const ALARM: char = '\u{2061}';
const FAINT: char = '\u{2063}';
const END: char = '\u{2062}';

/// Rows under a heading, without lines.
pub(crate) struct Table {
    /// Those that begin with `>` stand over right-aligned columns.
    headings: Vec<String>,
    rows: Vec<Vec<String>>,
    /// Headings in the order in which their columns are left out where it is narrow.
    folding: &'static [&'static str],
}

/// A cell that stands out; its words carry the meaning.
pub(crate) fn alarming(text: &str) -> String {
    format!("{ALARM}{text}{END}")
}

/// A cell that stands back.
pub(crate) fn faint(text: &str) -> String {
    format!("{FAINT}{text}{END}")
}

impl Table {
    pub(crate) fn new(headings: &[&str]) -> Self {
        let headings = headings.iter().map(|heading| (*heading).to_owned()).collect();
        Self { headings, rows: Vec::new(), folding: &[] }
    }

    /// The columns that are left out where it is narrow, the first one first; names are shortened when that
    /// is not enough.
    pub(crate) fn folding(self, folding: &'static [&'static str]) -> Self {
        Self { folding, ..self }
    }

    pub(crate) fn row(&mut self, cells: Vec<String>) {
        self.rows.push(cells);
    }

    /// The lines, each indented by two, the headings standing back.
    pub(crate) fn lines(&self, console: &Console) -> Vec<String> {
        let shown = self.shown(width::of_tables());
        let widths = width::of_tables().map(|columns| self.squeezed(&shown, columns));
        let mut grid = Grid::new();
        grid.load_style(TableStyle::new());
        grid.set_header(shown.iter().map(|column| self.headings[*column].trim_start_matches('>')));
        for (number, column) in shown.iter().enumerate() {
            if let Some(aligned) = grid.column_mut(number) {
                aligned.set_padding((0, 2));
                if self.headings[*column].starts_with('>') {
                    aligned.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        for row in &self.rows {
            let cell = |(number, column): (usize, &usize)| match &widths {
                Some(widths) if self.holds_names(*column) => shortened(&row[*column], widths[number]),
                _ => row[*column].clone(),
            };
            grid.add_row(shown.iter().enumerate().map(cell));
        }
        let mut lines: Vec<String> =
            grid.lines().map(|line| console.marked(&format!("  {}", line.trim_end()))).collect();
        if let Some(heading) = lines.first_mut() {
            *heading = console.faint(heading);
        }
        lines
    }

    /// The columns that there is room for.
    fn shown(&self, most: Option<usize>) -> Vec<usize> {
        let mut shown: Vec<usize> = (0..self.headings.len()).collect();
        let Some(most) = most else { return shown };
        for folded in self.folding {
            let all: usize = shown.iter().map(|column| self.width(*column) + GAP).sum();
            // Nothing follows the last column, and two stand before the first.
            if all <= most {
                break;
            }
            shown.retain(|column| self.headings[*column].trim_start_matches('>') != *folded);
        }
        shown
    }

    /// The widths of these columns when those of names give way, the widest first.
    fn squeezed(&self, shown: &[usize], most: usize) -> Vec<usize> {
        let mut widths: Vec<usize> = shown.iter().map(|column| self.width(*column)).collect();
        while widths.iter().map(|width| width + GAP).sum::<usize>() > most {
            let names = (0..shown.len()).filter(|number| self.holds_names(shown[*number]));
            let Some(widest) = names.max_by_key(|number| widths[*number]) else { break };
            if widths[widest] <= LEAST_NAME {
                break;
            }
            widths[widest] -= 1;
        }
        widths
    }

    fn holds_names(&self, column: usize) -> bool {
        column == 0 || NAMES.contains(&self.headings[column].as_str())
    }

    fn width(&self, column: usize) -> usize {
        let cells = self.rows.iter().map(|row| display_width(&row[column]));
        cells.max().unwrap_or(0).max(display_width(self.headings[column].trim_start_matches('>')))
    }
}

/// A name that is too long loses what is in its middle: its ending says what it is, and often which of many.
fn shortened(text: &str, most: usize) -> String {
    if display_width(text) <= most {
        return text.to_owned();
    }
    // A mark whose end is cut off would colour what follows.
    let characters: Vec<char> = text.chars().filter(|c| ![ALARM, FAINT, END].contains(c)).collect();
    let (mut first, mut last) = (characters.len() * 2 / 3, characters.len() * 2 / 3);
    let joined = |first: usize, last: usize| {
        let parts = characters[..first].iter().chain(std::iter::once(&'…')).chain(&characters[last..]);
        parts.collect::<String>()
    };
    while display_width(&joined(first, last)) > most && (first > 1 || last < characters.len()) {
        // What a row begins with is the picture of the family, which stays.
        match first > most / 2 || last == characters.len() {
            true => first -= 1,
            false => last += 1,
        }
    }
    joined(first, last)
}

/// The text, with these instead of its marks.
pub(crate) fn with_styles(text: &str, alarm: &str, faint: &str, end: &str) -> String {
    text.replace(ALARM, alarm).replace(FAINT, faint).replace(END, end)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_keep_their_beginning_and_their_ending() {
        for (name, most, short) in [
            ("fen-base.vhdx", 20, "fen-base.vhdx"),
            ("germination-of-the-whole-year-2025.vhdx", 20, "germinatio…2025.vhdx"),
            ("└─ germination-of-the-whole-year.vhdx", 16, "└─ germi…ar.vhdx"),
        ] {
            assert_eq!(shortened(name, most), short);
        }
    }

    #[test]
    fn columns_are_left_out_in_their_order() {
        let mut table = Table::new(&["image", ">disk", "state", "changed"]).folding(&["changed", "disk"]);
        table.row(["fen-base.vhdx", "64 GiB", "healthy", "yesterday"].map(str::to_owned).to_vec());
        for (most, shown) in [(80, vec![0, 1, 2, 3]), (40, vec![0, 1, 2]), (26, vec![0, 2]), (5, vec![0, 2])] {
            assert_eq!(table.shown(Some(most)), shown, "{most}");
        }
        assert_eq!(table.shown(None).len(), 4);
    }
}
