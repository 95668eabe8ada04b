//! Lookups: tables asked of history, read block by block, so that one of any length needs little memory.

mod cells;
mod file;
mod read;

pub use file::{LookupFile, Made, NotWritten, columns_json};
pub use read::{Block, Reader, Row};

#[cfg(test)]
mod tests;
