//! What stands below a lookup: how many rows it has, and what its columns come to.

use super::Entry;

/// What the cells of a column come to. Numbers are `None` where there are none.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ColumnSums {
    /// Cells in which something stands.
    pub filled: u64,
    /// Those of them that are numbers.
    pub numbers: u64,
    pub minimum: Option<f64>,
    pub maximum: Option<f64>,
    pub sum: f64,
}

impl ColumnSums {
    /// The average of its numbers, each counted once.
    pub fn average(&self) -> Option<f64> {
        (self.numbers > 0).then(|| self.sum / self.numbers as f64)
    }

    fn see(&mut self, entry: &Entry) {
        if *entry == Entry::Nothing {
            return;
        }
        self.filled += 1;
        if let Some(number) = entry.as_number() {
            self.numbers += 1;
            self.sum += number;
            self.minimum = Some(self.minimum.map_or(number, |least| least.min(number)));
            self.maximum = Some(self.maximum.map_or(number, |most| most.max(number)));
        }
    }
}

/// What all rows come to, as they are told.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sums {
    pub rows: u64,
    pub columns: Vec<ColumnSums>,
}

impl Sums {
    /// Nothing yet, for so many columns.
    pub fn new(columns: usize) -> Sums {
        Sums { rows: 0, columns: vec![ColumnSums::default(); columns] }
    }

    /// Takes a row.
    pub fn see(&mut self, row: &[Entry]) {
        self.rows += 1;
        self.columns.iter_mut().zip(row).for_each(|(column, entry)| column.see(entry));
    }
}
