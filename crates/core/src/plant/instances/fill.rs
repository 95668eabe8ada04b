//! Parameters in the settings of a class. Wherever a setting stands, `[[Base + 3]]` may stand in its place or within its text:
//!
//! ```text
//! brackets = "[[" sum "]]"
//! sum      = product { ("+" | "-") product }
//! product  = factor { "*" factor }
//! factor   = number | parameter | "(" sum ")"
//! ```
//!
//! A text that is nothing but brackets becomes what they give, a number or a text; otherwise what they give is written into it. A
//! parameter that the instance does not say leaves the setting unsaid.

use serde_json::{Map, Number, Value as Json};
use std::collections::HashMap;

/// How deep round brackets may nest.
const DEEPEST: usize = 16;
/// The longest text that is made.
const LONGEST: usize = 4000;

/// What the parameters of an instance are.
#[derive(Clone, Debug, Default)]
pub struct Scope {
    /// By the name in small letters.
    values: HashMap<String, Json>,
}

impl Scope {
    /// Says what a parameter is; null: it is known and not said.
    pub fn set(&mut self, name: &str, value: Json) {
        self.values.insert(name.to_lowercase(), value);
    }

    /// What a parameter is.
    pub fn get(&self, name: &str) -> Option<&Json> {
        self.values.get(&name.trim().to_lowercase())
    }
}

/// Whether a setting holds parameters.
pub fn has_brackets(value: &Json) -> bool {
    match value {
        Json::String(text) => text.contains("[["),
        Json::Array(all) => all.iter().any(has_brackets),
        Json::Object(all) => all.values().any(has_brackets),
        _ => false,
    }
}

/// A setting with its parameters filled in; none, or with parts left out, where one of them is not said, which `unsaid` tells.
///
/// # Errors
/// Where in the setting something cannot be read (“.address”; empty for the whole), and a sentence.
pub fn filled(value: &Json, scope: &Scope, unsaid: &mut bool) -> Result<Option<Json>, (String, String)> {
    Ok(Some(match value {
        Json::String(text) if text.contains("[[") => match text_of(text, scope).map_err(|words| (String::new(), words))? {
            Some(made) => made,
            None => {
                *unsaid = true;
                return Ok(None);
            }
        },
        Json::Array(all) => {
            let mut made = Vec::with_capacity(all.len());
            for (index, inner) in all.iter().enumerate() {
                let inner = filled(inner, scope, unsaid).map_err(|(at, words)| (format!(".{index}{at}"), words))?;
                made.push(inner.unwrap_or(Json::Null));
            }
            Json::Array(made)
        }
        Json::Object(all) => {
            let mut made = Map::new();
            for (name, inner) in all {
                let inner = filled(inner, scope, unsaid).map_err(|(at, words)| (format!(".{name}{at}"), words))?;
                made.extend(inner.map(|inner| (name.clone(), inner)));
            }
            Json::Object(made)
        }
        other => other.clone(),
    }))
}

fn text_of(text: &str, scope: &Scope) -> Result<Option<Json>, String> {
    let mut made = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("[[") {
        let (inside, after) = after.split_once("]]").ok_or("The double brackets are not closed.")?;
        let Some(value) = Reader::evaluate(inside, scope)? else { return Ok(None) };
        if before.is_empty() && after.is_empty() && made.is_empty() {
            return Ok(Some(value));
        }
        made.push_str(before);
        match value {
            Json::String(text) => made.push_str(&text),
            other => made.push_str(&other.to_string()),
        }
        rest = after;
    }
    made.push_str(rest);
    if made.len() > LONGEST {
        return Err(format!("With its parameters this text is longer than {LONGEST} bytes."));
    }
    Ok(Some(Json::String(made)))
}

struct Reader<'a> {
    text: &'a str,
    rest: &'a str,
    scope: &'a Scope,
}

/// What a part of an expression is; none where a parameter in it is not said.
type Worked = Result<Option<Json>, String>;

impl<'a> Reader<'a> {
    fn evaluate(text: &'a str, scope: &'a Scope) -> Worked {
        let mut reader = Reader { text, rest: text, scope };
        let value = reader.sum(0)?;
        reader.pass_spaces();
        if reader.rest.is_empty() { Ok(value) } else { Err(reader.unexpected()) }
    }

    fn unexpected(&self) -> String {
        match self.rest.chars().next() {
            Some(c) => format!("“{c}” is not expected in “[[{}]]”.", self.text),
            None => format!("“[[{}]]” ends too early.", self.text),
        }
    }

    fn pass_spaces(&mut self) {
        self.rest = self.rest.trim_start();
    }

    fn takes(&mut self, signs: &[char]) -> Option<char> {
        self.pass_spaces();
        let sign = self.rest.chars().next().filter(|c| signs.contains(c))?;
        self.rest = &self.rest[sign.len_utf8()..];
        Some(sign)
    }

    fn sum(&mut self, depth: usize) -> Worked {
        let mut value = self.product(depth)?;
        while let Some(sign) = self.takes(&['+', '-']) {
            let more = self.product(depth)?;
            value = self.worked(value, more, |a, b| if sign == '+' { a + b } else { a - b })?;
        }
        Ok(value)
    }

    fn product(&mut self, depth: usize) -> Worked {
        let mut value = self.factor(depth)?;
        while self.takes(&['*']).is_some() {
            let more = self.factor(depth)?;
            value = self.worked(value, more, |a, b| a * b)?;
        }
        Ok(value)
    }

    fn worked(&self, a: Option<Json>, b: Option<Json>, work: impl Fn(f64, f64) -> f64) -> Worked {
        let (Some(a), Some(b)) = (a, b) else { return Ok(None) };
        let (Some(a), Some(b)) = (a.as_f64(), b.as_f64()) else {
            return Err(format!("“[[{}]]” calculates with something that is no number.", self.text));
        };
        number(work(a, b)).map(Some).ok_or_else(|| format!("“[[{}]]” gives no number that can be kept.", self.text))
    }

    fn factor(&mut self, depth: usize) -> Worked {
        if self.takes(&['(']).is_some() {
            if depth == DEEPEST {
                return Err(format!("“[[{}]]” nests too deep.", self.text));
            }
            let value = self.sum(depth + 1)?;
            return if self.takes(&[')']).is_some() { Ok(value) } else { Err(self.unexpected()) };
        }
        self.pass_spaces();
        let digits = self.rest.len() - self.rest.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.').len();
        if digits > 0 {
            let (written, rest) = self.rest.split_at(digits);
            self.rest = rest;
            let value = written.parse().ok().and_then(number);
            return value.map(Some).ok_or_else(|| format!("“{written}” is no number."));
        }
        let fits = |c: char| c.is_alphanumeric() || c == ' ' || c == '_';
        let name = self.rest.len() - self.rest.trim_start_matches(fits).len();
        let (name, rest) = self.rest.split_at(name);
        if name.is_empty() {
            return Err(self.unexpected());
        }
        self.rest = rest;
        let value = self.scope.get(name).ok_or_else(|| format!("There is no parameter “{}”.", name.trim()))?;
        Ok(Some(value.clone()).filter(|value| !value.is_null()))
    }
}

/// A number as a setting keeps it: whole ones without a point.
pub(super) fn number(value: f64) -> Option<Json> {
    let whole = value.fract() == 0.0 && value.abs() <= crate::number::EXACT as f64;
    if whole { Some(Json::from(value as i64)) } else { Number::from_f64(value).map(Json::Number) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    fn scope() -> Scope {
        let mut scope = Scope::default();
        for (name, value) in [
            ("Base", json!(100)),
            ("Number", json!(3)),
            ("Range", json!(2.5)),
            ("Topic", json!("works/ex-1")),
            ("Serial number", json!(null)),
        ] {
            scope.set(name, value);
        }
        scope
    }

    #[rstest]
    #[case(json!("[[Base]]"), json!(100))]
    #[case(json!("[[ base+3 ]]"), json!(103))]
    #[case(json!("[[Number * 40 + Base - 1]]"), json!(219))]
    #[case(json!("[[(Number - 1) * 40]]"), json!(80))]
    #[case(json!("[[Range * 2]]"), json!(5))]
    #[case(json!("[[Range]]"), json!(2.5))]
    #[case(json!("[[Topic]]"), json!("works/ex-1"))]
    #[case(json!("[[Topic]]/level"), json!("works/ex-1/level"))]
    #[case(json!("Zone [[Number]] of [[Base]]"), json!("Zone 3 of 100"))]
    #[case(json!({"offset": "[[Base + 2]]", "type": "f32"}), json!({"offset": 102, "type": "f32"}))]
    #[case(json!({"member": [["x", "[[Number]]"]]}), json!({"member": [["x", 3]]}))]
    #[case(json!({"note": "[[Serial number]]", "unit": "m"}), json!({"unit": "m"}))]
    #[case(json!("no ] brackets ["), json!("no ] brackets ["))]
    fn parameters_are_filled_in(#[case] value: Json, #[case] expected: Json) {
        assert_eq!(filled(&value, &scope(), &mut false), Ok(Some(expected)));
    }

    #[rstest]
    #[case("[[Bse]]", "There is no parameter “Bse”.")]
    #[case("[[Base", "The double brackets are not closed.")]
    #[case("[[]]", "“[[]]” ends too early.")]
    #[case("[[Base +]]", "“[[Base +]]” ends too early.")]
    #[case("[[Base / 2]]", "“/” is not expected in “[[Base / 2]]”.")]
    #[case("[[(Base]]", "“[[(Base]]” ends too early.")]
    #[case("[[Topic + 1]]", "“[[Topic + 1]]” calculates with something that is no number.")]
    #[case("[[1.2.3]]", "“1.2.3” is no number.")]
    fn what_cannot_be_read_is_told(#[case] text: &str, #[case] words: &str) {
        assert_eq!(filled(&json!(text), &scope(), &mut false), Err((String::new(), words.to_owned())));
        let inside = filled(&json!({"point": {"offset": text}}), &scope(), &mut false);
        assert_eq!(inside, Err((".point.offset".into(), words.to_owned())));
    }

    #[test]
    fn what_the_instance_does_not_say_leaves_the_setting_unsaid() {
        for text in ["[[Serial number]]", "No. [[Serial number]]", "[[Serial number * 2]]"] {
            let mut unsaid = false;
            assert_eq!(filled(&json!(text), &scope(), &mut unsaid), Ok(None));
            assert!(unsaid);
        }
    }

    proptest! {
        /// Whatever is written, it is filled in or refused, and numbers are worked out as anybody would.
        #[test]
        fn any_text_comes_to_an_end(text in "(\\[\\[|\\]\\]|Base|Number|[0-9]{1,3}|[-+*() .a-z]){0,24}") {
            drop(filled(&json!(text), &scope(), &mut false));
        }

        #[test]
        fn sums_and_products_are_right(a in 0u32..1000, b in 0u32..1000, c in 0u32..1000) {
            let text = format!("[[{a} + {b} * {c} - Base]]");
            let expected = f64::from(a) + f64::from(b) * f64::from(c) - 100.0;
            prop_assert_eq!(filled(&json!(text), &scope(), &mut false), Ok(Some(json!(expected as i64))));
        }
    }
}
