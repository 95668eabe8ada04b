//! Addresses as manuals write them, and as they go on the wire.

use serde::Serialize;
use std::fmt;

/// The four tables of Modbus (Modbus application protocol V1.1b3, §4.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Table {
    Coil,
    Discrete,
    Input,
    Holding,
}

impl Table {
    pub(super) const ALL: [Table; 4] = [Table::Coil, Table::Discrete, Table::Input, Table::Holding];

    /// Whether its entries are single bits.
    pub fn is_bits(self) -> bool {
        matches!(self, Table::Coil | Table::Discrete)
    }

    /// Most entries in one read (§6.1 to 6.4).
    pub fn read_limit(self) -> u16 {
        if self.is_bits() { 2000 } else { 125 }
    }

    /// The word in front of a wire address.
    pub fn word(self) -> &'static str {
        match self {
            Table::Coil => "coil",
            Table::Discrete => "discrete",
            Table::Input => "input",
            Table::Holding => "holding",
        }
    }

    /// As a heading.
    pub fn title(self) -> &'static str {
        match self {
            Table::Coil => "Coils",
            Table::Discrete => "Discrete inputs",
            Table::Input => "Input registers",
            Table::Holding => "Holding registers",
        }
    }

    /// The digit that stands for the table in five- and six-digit notation.
    fn digit(self) -> u8 {
        match self {
            Table::Coil => b'0',
            Table::Discrete => b'1',
            Table::Input => b'3',
            Table::Holding => b'4',
        }
    }

    fn from_digit(digit: u8) -> Option<Table> {
        Table::ALL.into_iter().find(|t| t.digit() == digit)
    }

    /// Reads the word, or what manuals write instead of it.
    pub fn from_word(word: &str) -> Option<Table> {
        match word.to_ascii_lowercase().as_str() {
            "coil" | "coils" => Some(Table::Coil),
            "discrete" | "discrete input" | "discrete inputs" => Some(Table::Discrete),
            "input" | "input register" | "input registers" => Some(Table::Input),
            "holding" | "holding register" | "holding registers" => Some(Table::Holding),
            _ => None,
        }
    }
}

/// A table and the number that goes on the wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct Address {
    pub table: Table,
    pub offset: u16,
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.table.word(), self.offset)
    }
}

impl Address {
    /// Reads an address. `base` is the number with which the manual begins to count, 0 or 1.
    ///
    /// `holding 12`, `coil 3` and a plain `12` (a holding register) count from the base. Five or six digits that begin
    /// with the table's digit (`40001`, `400001`) and `4x00001` always count from 1, as that notation does.
    ///
    /// # Errors
    /// Text that is no address, with a sentence for the person who typed it.
    pub fn parse(text: &str, base: u16) -> Result<Address, String> {
        let text = text.trim();
        let help = || format!("“{text}” is not an address; write it like 40001, 4x00001 or holding 0.");
        if text.is_empty() {
            return Err("Enter the address, like 40001 or holding 0.".into());
        }
        if text.len() > 40 || !text.is_ascii() {
            return Err(help());
        }
        if let Some((word, digits)) = text.rsplit_once(' ') {
            let table = Table::from_word(word.trim()).ok_or_else(help)?;
            return at(table, digits, base).ok_or_else(help)?;
        }
        let bytes = text.as_bytes();
        if let Some((digit, rest)) = text.split_once(['x', 'X']) {
            let table = digit.bytes().next().filter(|_| digit.len() == 1).and_then(Table::from_digit).ok_or_else(help)?;
            return at(table, rest, 1).ok_or_else(help)?;
        }
        if matches!(bytes.len(), 5 | 6)
            && let Some(table) = Table::from_digit(bytes[0])
        {
            return at(table, &text[1..], 1).ok_or_else(help)?;
        }
        at(Table::Holding, text, base).ok_or_else(help)?
    }

    /// The other addresses that the same text means to people who count otherwise, each with the way they count.
    pub fn others(text: &str, base: u16) -> Vec<(Address, &'static str)> {
        let Ok(meant) = Address::parse(text, base) else { return Vec::new() };
        let text = text.trim();
        let mut others = Vec::new();
        let plain = text.bytes().all(|b| b.is_ascii_digit());
        let noted = plain && matches!(text.len(), 5 | 6) && Table::from_digit(text.as_bytes()[0]).is_some();
        // One digit too few: 4001 where 40001 was meant.
        if plain
            && text.len() == 4
            && let Some(table) = Table::from_digit(text.as_bytes()[0])
            && let Some(Ok(address)) = at(table, &text[1..], 1)
        {
            others.push((address, "as a manual’s number with a digit missing"));
        }
        if noted {
            if let Some(Ok(address)) = at(Table::Holding, text, base) {
                others.push((address, "as a plain number of a holding register"));
            }
        } else if !text.contains(['x', 'X']) {
            let (other, why) = if base == 1 { (0, "counted from 0") } else { (1, "counted from 1") };
            others.extend(Address::parse(text, other).ok().map(|address| (address, why)));
        }
        others.retain(|(address, _)| *address != meant);
        others
    }

    /// As [`Address::parse`] reads it with this base.
    pub fn written(self, base: u16) -> String {
        format!("{} {}", self.table.word(), u32::from(self.offset) + u32::from(base))
    }

    /// The six-digit form of manuals that count from 1: `400001`.
    pub fn manual(self) -> String {
        format!("{}{:05}", char::from(self.table.digit()), u32::from(self.offset) + 1)
    }
}

/// `None`: not digits at all.
fn at(table: Table, digits: &str, base: u16) -> Option<Result<Address, String>> {
    let number: u32 = digits.parse().ok().filter(|_| digits.bytes().all(|b| b.is_ascii_digit()))?;
    let Some(offset) = number.checked_sub(u32::from(base)) else {
        let first = format!("{} 1", table.word());
        return Some(Err(format!("By the connection's settings the manual counts from 1: its first address is “{first}”.")));
    };
    Some(
        u16::try_from(offset)
            .map(|offset| Address { table, offset })
            .map_err(|_| format!("Addresses end at {}.", 65_535 + u32::from(base))),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("40001", 1, &["holding 40000"])]
    #[case("40001", 0, &["holding 40001"])]
    #[case("holding 12", 1, &["holding 12"])]
    #[case("12", 0, &["holding 11"])]
    #[case("4001", 0, &["holding 0", "holding 4000"])]
    #[case("3010", 1, &["input 9", "holding 3010"])]
    #[case("0", 0, &[])]
    #[case("4x00001", 1, &[])]
    #[case("400001", 1, &[])]
    #[case("nonsense", 1, &[])]
    fn what_else_an_address_can_mean(#[case] text: &str, #[case] base: u16, #[case] expected: &[&str]) {
        let others: Vec<String> = Address::others(text, base).iter().map(|(a, _)| a.to_string()).collect();
        assert_eq!(others, expected);
    }

    #[rstest]
    #[case("40001", 0, Table::Holding, 0)]
    #[case("40001", 1, Table::Holding, 0)]
    #[case("400001", 0, Table::Holding, 0)]
    #[case("465536", 1, Table::Holding, 65_535)]
    #[case("4x00001", 0, Table::Holding, 0)]
    #[case("30010", 1, Table::Input, 9)]
    #[case("00001", 1, Table::Coil, 0)]
    #[case("10017", 1, Table::Discrete, 16)]
    #[case("holding 0", 0, Table::Holding, 0)]
    #[case("holding 1", 1, Table::Holding, 0)]
    #[case("Input register 7", 0, Table::Input, 7)]
    #[case("coil 12", 1, Table::Coil, 11)]
    #[case("120", 0, Table::Holding, 120)]
    #[case(" 120 ", 1, Table::Holding, 119)]
    #[case("50000", 0, Table::Holding, 50_000)]
    fn reads(#[case] text: &str, #[case] base: u16, #[case] table: Table, #[case] offset: u16) {
        assert_eq!(Address::parse(text, base), Ok(Address { table, offset }));
    }

    #[rstest]
    #[case("", 0)]
    #[case("holding 0", 1)]
    #[case("40000", 0)]
    #[case("2x00001", 0)]
    #[case("holding 65536", 0)]
    #[case("level", 0)]
    #[case("-4", 0)]
    #[case("holding +4", 0)]
    #[case("4x", 0)]
    fn refuses(#[case] text: &str, #[case] base: u16) {
        assert!(Address::parse(text, base).is_err());
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in ".{0,50}", base in 0u16..2) {
            let _ = Address::parse(&text, base);
        }

        #[test]
        fn what_is_shown_reads_back(offset in any::<u16>(), t in 0usize..4) {
            let address = Address { table: Table::ALL[t], offset };
            prop_assert_eq!(Address::parse(&address.to_string(), 0), Ok(address));
            prop_assert_eq!(Address::parse(&address.manual(), 0), Ok(address));
        }
    }
}
