//! Bytes as people read them.

use std::fmt::Write as _;

/// Bytes as hexadecimal digits, two for each, at most so many of them.
pub fn hex(bytes: &[u8], most: usize) -> String {
    bytes.iter().take(most).fold(String::new(), |mut all, byte| {
        // Writing to text cannot fail.
        let _ = write!(all, "{byte:02x}");
        all
    })
}
