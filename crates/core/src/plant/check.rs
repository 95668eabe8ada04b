//! What makes a single value of a setting wrong.

use crate::text as characters;

/// The longest name, in characters.
pub const NAME_LENGTH: usize = 120;

/// Collects what is wrong: field and sentence.
pub(crate) type Wrong = Vec<(String, String)>;

pub(super) fn name(wrong: &mut Wrong, name: &str) {
    name_of(wrong, "name", name);
}

/// Whether a name will do, for the field that holds it.
pub(super) fn name_of(wrong: &mut Wrong, field: &str, name: &str) {
    let mut say = |words: String| wrong.push((field.into(), words));
    if !characters::is_visible(name) {
        say("Enter a name.".into());
    } else if name.trim() != name {
        say("A name must not begin or end with a space.".into());
    } else if name.chars().count() > NAME_LENGTH {
        say(format!("A name has at most {NAME_LENGTH} characters."));
    } else if name.contains('/') || name.chars().any(characters::is_control) {
        say("A name must not contain “/” or control characters; “/” separates places in a path.".into());
    }
}

pub(crate) fn between<T: PartialOrd + std::fmt::Display>(wrong: &mut Wrong, field: &str, value: T, low: T, high: T) {
    // Written so that a value which is not a number fails too.
    if !(value >= low && value <= high) {
        wrong.push((field.into(), format!("This must lie between {low} and {high}.")));
    }
}

pub(super) fn text(wrong: &mut Wrong, field: &str, value: &str) {
    if value.len() > 4000 {
        wrong.push((field.into(), "This text may have at most 4,000 bytes.".into()));
    }
}
