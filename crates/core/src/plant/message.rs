//! Messages of alarms: words with chips between them. A chip stands for something of the alarm (its value, its limit), or for a
//! formula, most often one that only names a tag. Stored are the parts of the row; people write chips in double brackets:
//! `Level [[value]] over [[limit]], pump [[Pump]]`.

use super::{Plant, Settings, Tag};
use crate::formula::{Formula, Mixed, Program, Wrong};
use serde::{Deserialize, Deserializer, Serialize, de::Error};
use serde_json::{Value as Json, json};
use uuid::Uuid;

mod written;

/// Most parts of a message, words and chips.
const MOST_PARTS: usize = 40;
/// Most characters of the words of a message.
const MOST_CHARACTERS: usize = 500;
/// The field that holds the values that go with events.
const VALUES: &str = "values_with";
/// Most values that go with an event.
pub const MOST_VALUES: usize = 8;

/// Something of the alarm that a chip stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Chip {
    /// What the rule judged, with its unit, or the name of its state.
    Value,
    /// The limit as it was then, with its unit.
    Limit,
    Unit,
    /// Why the value is not good.
    Reason,
    /// What the rule is known by: “high”.
    Rule,
    Tag,
    Place,
    /// The equipment around the place of the tag.
    Equipment,
}

impl Chip {
    pub const ALL: [Chip; 8] =
        [Chip::Value, Chip::Limit, Chip::Unit, Chip::Reason, Chip::Rule, Chip::Tag, Chip::Place, Chip::Equipment];

    /// What stands for it between double brackets.
    pub const fn word(self) -> &'static str {
        match self {
            Chip::Value => "value",
            Chip::Limit => "limit",
            Chip::Unit => "unit",
            Chip::Reason => "reason",
            Chip::Rule => "rule",
            Chip::Tag => "tag",
            Chip::Place => "place",
            Chip::Equipment => "equipment",
        }
    }
}

/// A part of a message.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(untagged)]
pub enum Piece {
    Words(String),
    Chip { chip: Chip },
    Formula { formula: Formula },
}

/// A row of words and chips.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Message(Vec<Piece>);

impl<'de> Deserialize<'de> for Message {
    /// From its parts, or from the text that people write.
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Message, D::Error> {
        match Json::deserialize(from)? {
            Json::String(text) => Message::read(&text).map_err(D::Error::custom),
            Json::Array(parts) => {
                let mut pieces = Vec::with_capacity(parts.len().min(MOST_PARTS));
                for part in parts {
                    match part {
                        // A parameter that the equipment does not say leaves nothing.
                        Json::Null => {}
                        Json::String(words) => pieces.push(Piece::Words(words)),
                        // So comes a parameter that is a number.
                        Json::Number(number) => pieces.push(Piece::Words(number.to_string())),
                        Json::Object(mut part) => {
                            let piece = match (part.shift_remove("chip"), part.shift_remove("formula")) {
                                (Some(chip), None) => {
                                    Piece::Chip { chip: serde_json::from_value(chip).map_err(D::Error::custom)? }
                                }
                                (None, Some(formula)) => {
                                    Piece::Formula { formula: serde_json::from_value(formula).map_err(D::Error::custom)? }
                                }
                                _ => return Err(D::Error::custom("a part of a message is words, a chip or a formula")),
                            };
                            pieces.push(piece);
                        }
                        _ => return Err(D::Error::custom("a part of a message is words, a chip or a formula")),
                    }
                }
                Ok(Message(pieces))
            }
            Json::Null => Ok(Message::default()),
            _ => Err(D::Error::custom("a message is a text, or a list of its parts")),
        }
    }
}

impl Message {
    /// Whether it has neither words nor chips.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Its parts in their order.
    pub fn pieces(&self) -> &[Piece] {
        &self.0
    }

    /// Its formulas, in their order.
    pub fn formulas(&self) -> impl Iterator<Item = &Formula> {
        self.0.iter().filter_map(|piece| if let Piece::Formula { formula } = piece { Some(formula) } else { None })
    }

    /// As it is stored.
    pub fn to_json(&self) -> Json {
        json!(self)
    }

    /// What is wrong with it, whatever its formulas compute.
    pub(super) fn wrong(&self) -> Option<String> {
        let words = self.0.iter().filter_map(|piece| if let Piece::Words(words) = piece { Some(words) } else { None });
        if self.0.len() > MOST_PARTS {
            Some(format!("A message has at most {MOST_PARTS} parts."))
        } else if words.clone().map(|words| words.chars().count()).sum::<usize>() > MOST_CHARACTERS {
            Some(format!("The words of a message have at most {MOST_CHARACTERS} characters."))
        } else if words.clone().any(|words| words.contains("[[")) {
            Some("What stands in double brackets is no chip.".into())
        } else {
            words.clone().find_map(|words| crate::text::wrong(words, false))
        }
    }

    /// What is wrong with it as a list of values that go with an event.
    pub(super) fn wrong_as_list(&self) -> Option<String> {
        let is_value = |piece: &Piece| matches!(piece, Piece::Formula { .. });
        if !self.0.iter().all(is_value) {
            Some("Only tags and formulas can go with an event.".into())
        } else if self.0.len() > MOST_VALUES {
            Some(format!("At most {MOST_VALUES} values go with an event."))
        } else {
            None
        }
    }

    /// With a comma between its chips, for a list of values.
    fn with_commas(&self) -> Message {
        let comma = |index: usize| (index > 0).then(|| Piece::Words(", ".into()));
        Message(self.0.iter().enumerate().flat_map(|(index, piece)| comma(index).into_iter().chain([piece.clone()])).collect())
    }

    /// Without the words between its chips.
    pub(super) fn without_words(self) -> Message {
        Message(self.0.into_iter().filter(|piece| !matches!(piece, Piece::Words(_))).collect())
    }
}

impl Plant {
    /// A formula of a message made ready.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub(crate) fn message_program(&self, formula: &Formula) -> Result<Program, Vec<Wrong>> {
        let program = self.program(formula, "")?;
        if program.remembers() {
            let words = "A message cannot look back over time. Make a computed tag that does, and name it here.";
            return Err(vec![Wrong::new(0, 0, words)]);
        }
        Ok(program)
    }

    /// A message as people write it; tags of `place` are named by their name alone.
    pub fn message_shown(&self, message: &Message, place: Option<Uuid>) -> String {
        let title = |id: Uuid| self.tags.get(&id).map(|tag| self.tag_from(&tag.set, place));
        message.written(|formula| Formula::shown(formula.text(), title))
    }

    /// The same for values that go with events.
    pub fn values_shown(&self, values: &Message, place: Option<Uuid>) -> String {
        self.message_shown(&values.with_commas(), place)
    }

    /// The same for a field of a rule of a class, as it is stored.
    pub fn class_message_shown(&self, class: Uuid, field: &str, stored: &Json) -> String {
        let Ok(message) = serde_json::from_value::<Message>(stored.clone()) else { return String::new() };
        let message = if field.ends_with(VALUES) { message.without_words().with_commas() } else { message };
        message.written(|formula| self.class_formula_shown(class, formula.text()))
    }

    /// What people write for the message or the values in a field of some settings.
    pub fn message_text<T: Settings>(&self, set: &T, field: &str) -> Option<String> {
        let (message, place) = (set.message(field)?, set.place(self));
        Some(if field == VALUES { self.values_shown(message, place) } else { self.message_shown(message, place) })
    }

    /// A message of a class in its parts: what people write in brackets is a property or a parameter of the class where it has one of
    /// that name; a parameter that every class knows stays in the words.
    ///
    /// # Errors
    /// A sentence, where it cannot be read.
    pub(super) fn class_message_parts(&self, class: Uuid, text: &str) -> Result<Json, String> {
        let mut message = Message::read(text)?;
        for piece in &mut message.0 {
            let Piece::Formula { formula } = piece else { continue };
            let Some(named) = formula.only_named().map(str::to_owned) else { continue };
            if self.own_stored(class, &named).is_some() {
                let own = Formula::read(&Formula::call("own", &named), Mixed::default()).map_err(|wrong| wrong.to_string())?;
                *piece = Piece::Formula { formula: own };
            } else if !named.contains('/') {
                *piece = Piece::Words(format!("[[{named}]]"));
            }
        }
        Ok(message.to_json())
    }

    /// How a tag is named from a place: by its name alone within it, else by its path.
    pub fn tag_from(&self, tag: &Tag, place: Option<Uuid>) -> String {
        if Some(tag.place) == place { tag.name.clone() } else { self.tag_path(tag) }
    }
}

/// The texts of the formulas inside a stored message.
pub(super) fn texts(message: &mut Json) -> impl Iterator<Item = &mut String> {
    let parts = message.as_array_mut().into_iter().flatten();
    parts.filter_map(|part| match part.get_mut("formula")?.get_mut("text")? {
        Json::String(text) => Some(text),
        _ => None,
    })
}

#[cfg(test)]
mod tests;
