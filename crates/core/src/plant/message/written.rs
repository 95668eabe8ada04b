//! Messages as people write them: chips in double brackets.

use super::{Chip, Message, Piece};
use crate::formula::{Formula, Mixed};

/// The longest text that is read at all, in bytes.
const MOST_BYTES: usize = 16_000;

impl Message {
    /// Reads a message: in double brackets stands the word of a chip, a formula with at least one call, or the name or path of a tag.
    ///
    /// # Errors
    /// A sentence, where brackets do not close or hold what cannot be read.
    pub fn read(text: &str) -> Result<Message, String> {
        if text.len() > MOST_BYTES {
            return Err(format!("A message has at most {MOST_BYTES} bytes"));
        }
        let (mut pieces, mut rest) = (Vec::new(), text);
        while let Some(at) = rest.find("[[") {
            let (words, opened) = rest.split_at(at);
            let inside = &opened[2..];
            let end =
                end_of(inside).ok_or_else(|| format!("The double brackets before “{}” are not closed", first_of(inside)))?;
            if !words.is_empty() {
                pieces.push(Piece::Words(words.to_owned()));
            }
            pieces.push(chip(inside[..end].trim())?);
            rest = &inside[end + 2..];
        }
        if !rest.is_empty() {
            pieces.push(Piece::Words(rest.to_owned()));
        }
        Ok(Message(pieces))
    }

    /// The text from which it can be read again; `shown` gives the text of a formula as people write it.
    pub fn written(&self, shown: impl Fn(&Formula) -> String) -> String {
        let mut text = String::new();
        for piece in self.pieces() {
            match piece {
                Piece::Words(words) => text.push_str(words),
                Piece::Chip { chip } => text.push_str(&format!("[[{}]]", chip.word())),
                Piece::Formula { formula } => text.push_str(&format!("[[{}]]", in_brackets(&shown(formula)))),
            }
        }
        text
    }
}

/// Where the brackets close: at the first pair outside quotation marks.
fn end_of(inside: &str) -> Option<usize> {
    let bytes = inside.as_bytes();
    let (mut quoted, mut at) = (false, 0);
    while at < bytes.len() {
        match bytes[at] {
            b'\\' if quoted => at += 1,
            b'"' => quoted = !quoted,
            b']' if !quoted && bytes.get(at + 1) == Some(&b']') => return Some(at),
            _ => {}
        }
        at += 1;
    }
    // A name can hold a single quotation mark.
    if quoted { inside.find("]]") } else { None }
}

fn chip(inside: &str) -> Result<Piece, String> {
    if inside.is_empty() {
        return Err("There is nothing between the double brackets".into());
    }
    if let Some(chip) = Chip::ALL.into_iter().find(|chip| chip.word() == inside) {
        return Ok(Piece::Chip { chip });
    }
    let read = |text: &str| Formula::read(text, Mixed::default());
    let formula = match calls(inside) {
        true => read(inside).map_err(|wrong| format!("“[[{inside}]]”, {}", wrong.to_string().trim_end_matches('.')))?,
        false => read(&Formula::call("at", inside)).map_err(|_| format!("“{}” is no name of a tag", first_of(inside)))?,
    };
    Ok(Piece::Formula { formula })
}

/// Whether this is a formula and not a name: a name is not followed by a bracket that holds a text or something that can be read.
fn calls(inside: &str) -> bool {
    inside.contains("(\"") || (inside.contains('(') && Formula::read(inside, Mixed::default()).is_ok())
}

/// What stands between the brackets for a formula: a tag or a property that is all of it, by its name alone.
fn in_brackets(text: &str) -> String {
    // The bracket of a list must not close those of the chip.
    let whole = || if text.ends_with(']') { format!("{text} ") } else { text.to_owned() };
    let Ok(formula) = Formula::read(text, Mixed::default()) else { return whole() };
    let Some(named) = formula.only_named().or_else(|| formula.only_own()) else { return whole() };
    let plain = !named.contains(['[', ']', '"']) && named.trim() == named && Chip::ALL.iter().all(|chip| chip.word() != named);
    if plain && !calls(named) { named.to_owned() } else { text.to_owned() }
}

fn first_of(text: &str) -> String {
    text.chars().take(20).collect()
}
