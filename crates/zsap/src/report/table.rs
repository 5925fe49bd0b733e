//! Aligned columns.

use comfy_table::{CellAlignment, Table as Grid, TableStyle};

use crate::console::Console;

/// Rows under a heading, without lines.
pub(crate) struct Table {
    grid: Grid,
}

impl Table {
    /// Headings; those that begin with `>` stand over right-aligned columns.
    pub(crate) fn new(headings: &[&str]) -> Self {
        let mut grid = Grid::new();
        grid.load_style(TableStyle::new());
        grid.set_header(headings.iter().map(|heading| heading.trim_start_matches('>')));
        for (number, heading) in headings.iter().enumerate() {
            if let Some(column) = grid.column_mut(number) {
                column.set_padding((0, 2));
                if heading.starts_with('>') {
                    column.set_cell_alignment(CellAlignment::Right);
                }
            }
        }
        Self { grid }
    }

    pub(crate) fn row(&mut self, cells: Vec<String>) {
        self.grid.add_row(cells);
    }

    /// The lines, each indented by two, the headings standing back.
    pub(crate) fn lines(&self, console: &Console) -> Vec<String> {
        let mut lines: Vec<String> = self.grid.lines().map(|line| format!("  {}", line.trim_end())).collect();
        if let Some(heading) = lines.first_mut() {
            *heading = console.faint(heading);
        }
        lines
    }
}
