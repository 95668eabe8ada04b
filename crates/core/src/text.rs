//! Text from people, programs and devices: what it may not hold.
//!
//! Control characters end lines of logs early, move the cursor of a terminal, and cannot be stored (the character 0); characters
//! that turn the direction of writing make a name look like another. People and programs are told at which field; what a device
//! sends is shown with a picture of the character in its place.

use std::{borrow::Cow, fmt::Write as _};

/// Whether a character stands for nothing that can be read: controls, line and paragraph separators, and what turns the
/// direction of writing (Unicode 16, categories Cc, Zl, Zp, and the bidirectional controls).
pub fn is_control(c: char) -> bool {
    c.is_control() || matches!(c, '\u{2028}' | '\u{2029}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}' | '\u{FEFF}')
}

/// Whether a character shows nothing, though it is no control: spaces, joiners, fillers.
fn is_blank(c: char) -> bool {
    c.is_whitespace()
        || matches!(c, '\u{AD}' | '\u{115F}' | '\u{1160}' | '\u{180E}' | '\u{200B}'..='\u{200F}' | '\u{2060}'..='\u{2064}' | '\u{2800}' | '\u{3164}' | '\u{FFA0}')
}

/// Whether anything of a text can be seen.
pub fn is_visible(text: &str) -> bool {
    text.chars().any(|c| !is_control(c) && !is_blank(c))
}

/// Fields that may have several lines, wherever they stand.
pub const LINES: [&str; 11] =
    ["payload", "note", "cause", "action", "text", "comment", "rows", "trust", "certificate", "key", "secret"];

/// What is wrong with a text that somebody typed, as a sentence; `lines`: it may have several lines and tabs.
pub fn wrong(text: &str, lines: bool) -> Option<String> {
    let c = text.chars().find(|&c| is_control(c) && !(lines && matches!(c, '\n' | '\r' | '\t')))?;
    Some(match c {
        '\n' | '\r' | '\u{2028}' | '\u{2029}' => "This must be one line.".to_owned(),
        '\t' => "This must not hold a tab.".to_owned(),
        _ => format!("This contains a character that cannot be shown (U+{:04X}).", c as u32),
    })
}

/// A text of a device with a picture of each control character in its place, so that it can be seen that there was one.
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.chars().any(is_control) {
        return Cow::Borrowed(text);
    }
    let picture = |c: char| match c {
        // The block of control pictures, U+2400.
        '\0'..='\u{1F}' => char::from_u32(0x2400 + c as u32).unwrap_or('\u{FFFD}'),
        '\u{7F}' => '\u{2421}',
        c if is_control(c) => '\u{FFFD}',
        c => c,
    };
    Cow::Owned(text.chars().map(picture).collect())
}

/// Bytes as hexadecimal digits, two for each, at most so many of them.
pub fn hex(bytes: &[u8], most: usize) -> String {
    bytes.iter().take(most).fold(String::new(), |mut all, byte| {
        // Writing to text cannot fail.
        let _ = write!(all, "{byte:02x}");
        all
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("Level", false, None)]
    #[case("Wäsche 2 µg", false, None)]
    #[case("a\0b", true, Some("This contains a character that cannot be shown (U+0000)."))]
    #[case("\u{1b}[2J", true, Some("This contains a character that cannot be shown (U+001B)."))]
    #[case("ab\u{202E}cd", false, Some("This contains a character that cannot be shown (U+202E)."))]
    #[case("two\nlines", false, Some("This must be one line."))]
    #[case("two\nlines", true, None)]
    #[case("a\tb", false, Some("This must not hold a tab."))]
    fn what_is_wrong(#[case] text: &str, #[case] lines: bool, #[case] words: Option<&str>) {
        assert_eq!(wrong(text, lines).as_deref(), words);
    }

    #[rstest]
    #[case("a", true)]
    #[case(" ", false)]
    #[case("\u{200B}\u{200D}", false)]
    #[case("\u{3164}", false)]
    #[case("", false)]
    #[case("\u{200B}x", true)]
    fn what_can_be_seen(#[case] text: &str, #[case] visible: bool) {
        assert_eq!(is_visible(text), visible);
    }

    #[test]
    fn a_device_shows_what_it_sent() {
        assert_eq!(shown("KX\0\n\u{1b}[2J\u{7f}\u{202E}"), "KX␀␊␛[2J␡\u{FFFD}");
    }

    proptest! {
        #[test]
        fn what_is_shown_holds_no_control(text in any::<String>()) {
            prop_assert!(!shown(&text).chars().any(is_control));
        }
    }
}
