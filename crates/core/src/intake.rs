//! Names by example: somebody types the name of one found item, and the pattern over the parts of its source is worked
//! out, shown in words, and used for the rest. Each further example refines it.

use serde::{Deserialize, Serialize};
use std::cmp::Ordering;

/// Most patterns that are kept while one is looked for.
const MOST: usize = 400;
/// Longest name that is taken apart, in characters.
const LONGEST: usize = 120;

/// What a source is made of, in order: “block”, “instance”, “member”, “address” …
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Found {
    pub parts: Vec<String>,
}

/// How a part is written in the name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Form {
    AsIs,
    Lower,
    Upper,
    /// First letter large, the rest small.
    Title,
}

/// One piece of a name.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Piece {
    Letters(String),
    Part {
        part: usize,
        form: Form,
    },
    /// One of the words of a part, counted from the front or, negative, from the back.
    Word {
        part: usize,
        word: isize,
        form: Form,
    },
    /// The last number in a part, moved by so much, with at least so many digits.
    Number {
        part: usize,
        plus: i64,
        digits: usize,
    },
    /// Counts the rows, from the first one on.
    Count {
        first: i64,
        digits: usize,
    },
}

/// A pattern that makes names.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Pattern {
    pieces: Vec<Piece>,
}

/// What was worked out.
#[derive(Clone, Debug, PartialEq)]
pub struct Naming {
    pub pattern: Pattern,
    /// Examples that the pattern does not fit; they keep their typed names.
    pub unfit: Vec<usize>,
}

fn words(text: &str) -> Vec<&str> {
    text.split(|c: char| !c.is_alphanumeric()).filter(|w| !w.is_empty()).collect()
}

/// The last run of digits in a text.
fn number(text: &str) -> Option<i64> {
    let end = text.rfind(|c: char| c.is_ascii_digit())? + 1;
    let start =
        text[..end].rfind(|c: char| !c.is_ascii_digit()).map_or(0, |i| i + text[i..].chars().next().map_or(1, char::len_utf8));
    text[start..end].parse().ok()
}

impl Form {
    const ALL: [Form; 4] = [Form::AsIs, Form::Title, Form::Lower, Form::Upper];

    fn write(self, text: &str) -> String {
        match self {
            Form::AsIs => text.to_owned(),
            Form::Lower => text.to_lowercase(),
            Form::Upper => text.to_uppercase(),
            Form::Title => {
                let mut letters = text.chars();
                letters
                    .next()
                    .map_or_else(String::new, |c| c.to_uppercase().chain(letters.flat_map(char::to_lowercase)).collect())
            }
        }
    }

    fn words(self) -> &'static str {
        match self {
            Form::AsIs => "",
            Form::Lower => " in small letters",
            Form::Upper => " in large letters",
            Form::Title => " with a large first letter",
        }
    }
}

fn digits(value: i64, digits: usize) -> Option<String> {
    (value >= 0).then(|| format!("{value:0digits$}"))
}

impl Piece {
    /// What it writes for a row; `None` where the row lacks what it wants.
    fn write(&self, row: usize, found: &Found) -> Option<String> {
        match self {
            Piece::Letters(text) => Some(text.clone()),
            Piece::Part { part, form } => found.parts.get(*part).filter(|p| !p.is_empty()).map(|p| form.write(p)),
            Piece::Word { part, word, form } => {
                let all = words(found.parts.get(*part)?);
                let index = if *word < 0 { all.len().checked_sub(word.unsigned_abs())? } else { word.unsigned_abs() };
                all.get(index).map(|w| form.write(w))
            }
            Piece::Number { part, plus, digits: wide } => digits(number(found.parts.get(*part)?)?.checked_add(*plus)?, *wide),
            Piece::Count { first, digits: wide } => digits(first + row as i64, *wide),
        }
    }

    /// How far-fetched it is. Letters cost more than anything that stands in the source, so that names follow the source.
    fn cost(&self) -> u32 {
        match self {
            Piece::Letters(text) => 3 + 4 * text.chars().filter(|c| c.is_alphanumeric()).count() as u32,
            Piece::Part { form, .. } => 2 + u32::from(*form != Form::AsIs),
            Piece::Word { word, form, .. } => 4 + word.unsigned_abs() as u32 + u32::from(*form != Form::AsIs),
            // Many numbers can be had by adding something; the smaller the step the likelier it was meant.
            Piece::Number { plus, .. } if *plus == 0 => 3,
            Piece::Number { plus, .. } => 6 + plus.unsigned_abs().min(10_000).ilog2(),
            Piece::Count { first, .. } => 8 + u32::from(*first != 1) + first.unsigned_abs().clamp(1, 10_000).ilog2(),
        }
    }

    fn show(&self, names: &[String]) -> String {
        let part = |part: &usize| names.get(*part).map_or_else(|| format!("part {}", part + 1), |n| format!("the {n}"));
        match self {
            Piece::Letters(text) => format!("“{text}”"),
            Piece::Part { part: p, form } => format!("{}{}", part(p), form.words()),
            Piece::Word { part: p, word, form } => {
                let which = match word {
                    0 => "first word".to_owned(),
                    -1 => "last word".to_owned(),
                    n if *n < 0 => format!("word {} from the end", -n),
                    n => format!("word {}", n + 1),
                };
                format!("the {which} of {}{}", part(p), form.words())
            }
            Piece::Number { part: p, plus, digits } => {
                let sum = match plus {
                    0 => String::new(),
                    n if *n > 0 => format!(" + {n}"),
                    n => format!(" − {}", -n),
                };
                let wide = if *digits > 1 { format!(", {digits} digits") } else { String::new() };
                format!("the number in {}{sum}{wide}", part(p))
            }
            Piece::Count { first, digits } => {
                let wide = if *digits > 1 { format!(", {digits} digits") } else { String::new() };
                format!("a count from {first}{wide}")
            }
        }
    }
}

impl Pattern {
    /// The name of a row; `None` where the row lacks a part that the pattern wants.
    pub fn name(&self, row: usize, found: &Found) -> Option<String> {
        self.pieces.iter().map(|p| p.write(row, found)).collect::<Option<String>>().map(|name| name.trim().to_owned())
    }

    /// The pattern in words; `names` are those of the parts.
    pub fn words(&self, names: &[String]) -> String {
        self.pieces.iter().map(|p| p.show(names)).collect::<Vec<_>>().join(" · ")
    }

    fn cost(&self) -> u32 {
        self.pieces.iter().map(Piece::cost).sum()
    }
}

/// The pieces that could stand at the beginning of a text, with how many bytes of it they take.
fn beginnings(text: &str, row: usize, found: &Found) -> Vec<(Piece, usize)> {
    let mut pieces = Vec::new();
    let mut add = |piece: Piece| {
        if let Some(written) = piece.write(row, found)
            && !written.is_empty()
            && text.starts_with(&written)
        {
            pieces.push((piece, written.len()));
        }
    };
    for (part, content) in found.parts.iter().enumerate() {
        let all = words(content);
        for form in Form::ALL {
            add(Piece::Part { part, form });
            if all.len() > 1 {
                for index in 0..all.len().min(12) {
                    add(Piece::Word { part, word: index as isize, form });
                    add(Piece::Word { part, word: index as isize - all.len() as isize, form });
                }
            }
        }
    }
    let run = text.bytes().take_while(u8::is_ascii_digit).count();
    if (1..=9).contains(&run)
        && let Ok(value) = text[..run].parse::<i64>()
    {
        // A number that begins with zeros has so many digits everywhere.
        let wide = if text.starts_with('0') && run > 1 { run } else { 1 };
        for (part, content) in found.parts.iter().enumerate() {
            if let Some(number) = number(content) {
                add(Piece::Number { part, plus: value - number, digits: wide });
            }
        }
        add(Piece::Count { first: value - row as i64, digits: wide });
    }
    pieces
}

/// Every likely way to make a name, the likeliest first.
fn ways(name: &str, row: usize, found: &Found) -> Vec<Pattern> {
    // For each place in the name the best ways to have written what is before it.
    let mut best: Vec<Vec<Pattern>> = vec![Vec::new(); name.len() + 1];
    best[0].push(Pattern { pieces: Vec::new() });
    for (at, letter) in name.char_indices() {
        let mut here = std::mem::take(&mut best[at]);
        here.sort_by_key(Pattern::cost);
        here.dedup();
        here.truncate(MOST);
        for before in &here {
            for (piece, length) in beginnings(&name[at..], row, found) {
                let pieces = before.pieces.iter().cloned().chain([piece]).collect();
                best[at + length].push(Pattern { pieces });
            }
            let mut pieces = before.pieces.clone();
            match pieces.last_mut() {
                Some(Piece::Letters(text)) => text.push(letter),
                _ => pieces.push(Piece::Letters(letter.into())),
            }
            best[at + letter.len_utf8()].push(Pattern { pieces });
        }
    }
    let mut all = best.pop().unwrap_or_default();
    all.sort_by_key(Pattern::cost);
    all.dedup();
    all
}

/// What is named: rows, each by a name of its own, or the places they stand in, several in each.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Named {
    #[default]
    Rows,
    Places,
}

/// Works out the pattern behind typed names: the likeliest that fits the last example and as many of the others as can be.
/// `None` before there is an example.
pub fn learn(rows: &[Found], examples: &[(usize, String)], of: Named) -> Option<Naming> {
    let (last, name) = examples.iter().rev().find(|(row, name)| *row < rows.len() && !name.trim().is_empty())?;
    if name.chars().count() > LONGEST {
        return None;
    }
    let judge = |pattern: Pattern| {
        let fits =
            |(row, name): &(usize, String)| rows.get(*row).is_none_or(|f| pattern.name(*row, f).as_deref() == Some(name.trim()));
        let unfit: Vec<usize> = examples.iter().filter(|e| !fits(e)).map(|e| e.0).collect();
        // A pattern that leaves many rows without a name is unlikely.
        let sample: Vec<usize> = match of {
            Named::Rows => (0..rows.len()).step_by((rows.len() / 50).max(1)).collect(),
            // Neighbours show whether several come together.
            Named::Places => (*last..rows.len()).take(100).collect(),
        };
        let mut names: Vec<Option<String>> = sample.iter().map(|&row| pattern.name(row, &rows[row])).collect();
        let empty = names.iter().filter(|n| n.is_none()).count();
        names.sort();
        names.dedup();
        let unlikely = match of {
            // The same name twice is seldom meant, and a place for each row still less.
            Named::Rows if names.len() == 1 && sample.len() > 1 => 40,
            Named::Rows => 3 * u32::from(names.len() < sample.len()),
            Named::Places => 20 * u32::from(sample.len() > 3 && names.len() * 2 > sample.len()),
        };
        (Naming { pattern, unfit }, empty, unlikely)
    };
    let ways = ways(name.trim(), *last, &rows[*last]);
    let order = |a: &(Naming, usize, u32), b: &(Naming, usize, u32)| -> Ordering {
        let key = |n: &(Naming, usize, u32)| (n.0.unfit.len(), n.1 > 0, n.0.pattern.cost() + n.2, n.1);
        key(a).cmp(&key(b))
    };
    ways.into_iter().take(MOST).map(judge).min_by(order).map(|(naming, ..)| naming)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const NAMES: [&str; 4] = ["block", "instance", "member", "address"];

    fn vessels() -> Vec<Found> {
        let members = ["Level", "Temperature", "Agitator speed"];
        let row = |vessel: usize, m: usize| Found {
            parts: vec![
                "Vessels".into(),
                vessel.to_string(),
                members[m].into(),
                format!("holding {}", 100 + 40 * (vessel - 1) + 2 * m),
            ],
        };
        (1..=12).flat_map(|v| (0..3).map(move |m| row(v, m))).collect()
    }

    fn learnt(examples: &[(usize, &str)]) -> (String, Vec<String>, Vec<usize>) {
        let rows = vessels();
        let examples: Vec<_> = examples.iter().map(|(row, name)| (*row, (*name).to_owned())).collect();
        let naming = learn(&rows, &examples, Named::Rows).unwrap();
        let names = NAMES.map(str::to_owned);
        let made = rows.iter().enumerate().map(|(i, r)| naming.pattern.name(i, r).unwrap_or_default()).collect();
        (naming.pattern.words(&names), made, naming.unfit)
    }

    #[rstest]
    #[case(&[(0, "EX-1 Level")], "“EX-” · the instance · “ ” · the member", "EX-2 Temperature")]
    #[case(&[(0, "Level")], "the member", "Temperature")]
    #[case(&[(0, "level 1")], "the member in small letters · “ ” · the instance", "temperature 2")]
    #[case(&[(0, "EX-01/LEVEL")], "“EX-” · the number in the instance, 2 digits · “/” · the member in large letters", "EX-02/TEMPERATURE")]
    #[case(&[(0, "R100")], "“R” · the number in the address", "R142")]
    #[case(&[(0, "R101")], "“R” · the number in the address + 1", "R143")]
    #[case(&[(1, "Point 1"), (2, "Point 2")], "“Point ” · a count from 0", "Point 4")]
    #[case(&[(2, "speed of 1")], "the last word of the member · “ of ” · the instance", "Temperature of 2")]
    fn sees_the_pattern(#[case] examples: &[(usize, &str)], #[case] words: &str, #[case] fifth: &str) {
        let (shown, names, unfit) = learnt(examples);
        assert_eq!((shown.as_str(), unfit.len()), (words, 0));
        let fifth = if words.contains("last word") { fifth.to_lowercase() } else { fifth.to_owned() };
        assert_eq!(names[4].to_lowercase(), fifth.to_lowercase());
    }

    #[test]
    fn a_second_example_refines_what_the_first_left_open() {
        // One row alone: instance 1 and “1” of the row count look alike until the fourth row is corrected.
        let (first, names, _) = learnt(&[(0, "Vessel 1")]);
        assert!(first.contains("instance"), "{first}");
        assert_eq!(names[3], "Vessel 2");
        let (second, names, _) = learnt(&[(0, "Vessel 1"), (3, "Vessel 4")]);
        assert_eq!(second, "“Vessel ” · a count from 1");
        assert_eq!(names[11], "Vessel 12");
    }

    #[test]
    fn an_exception_keeps_its_name_and_is_named() {
        let (_, names, unfit) = learnt(&[(1, "Something else"), (0, "EX-1 Level")]);
        assert_eq!((names[3].as_str(), unfit), ("EX-2 Level", vec![1]));
    }

    #[test]
    fn rows_are_not_all_called_alike() {
        let rows: Vec<Found> = (0..12).map(|n| Found { parts: vec![format!("{}", 40_101 + 2 * n)] }).collect();
        let naming = learn(&rows, &[(0, "P066".into())], Named::Rows).unwrap();
        let names: Vec<_> = (0..3).map(|i| naming.pattern.name(i, &rows[i]).unwrap()).collect();
        assert_eq!(names, ["P066", "P067", "P068"]);
    }

    #[test]
    fn places_are_few() {
        // Nine registers of each of forty vessels, found by their addresses only: “1” may be the count or an address.
        let row = |n: usize| Found { parts: vec!["holding".into(), n.to_string(), format!("{}", 400_001 + n), String::new()] };
        let rows: Vec<Found> = (0..360).map(row).collect();
        let naming = learn(&rows, &[(0, "Works/EX-1".into())], Named::Places).unwrap();
        let mut places: Vec<_> = rows.iter().enumerate().map(|(i, r)| naming.pattern.name(i, r)).collect();
        places.dedup();
        assert_eq!(places, [Some("Works/EX-1".to_owned())]);
        // Where a part tells the vessels apart, each has its place.
        let rows = vessels();
        let naming = learn(&rows, &[(0, "Works/EX-1".into())], Named::Places).unwrap();
        let mut places: Vec<_> = rows.iter().enumerate().map(|(i, r)| naming.pattern.name(i, r).unwrap()).collect();
        places.dedup();
        assert_eq!((places.len(), places[11].as_str()), (12, "Works/EX-12"));
    }

    #[test]
    fn no_example_no_pattern() {
        assert_eq!(learn(&vessels(), &[], Named::Rows), None);
        assert_eq!(learn(&vessels(), &[(99, "x".into())], Named::Rows), None);
        assert_eq!(learn(&vessels(), &[(0, "x".repeat(500))], Named::Rows), None);
    }

    proptest! {
        #[test]
        fn the_last_example_is_always_met(row in 0usize..36, name in "[A-Za-zäß0-9 ._-]{1,24}", other in "[a-z]{1,6}") {
            let rows = vessels();
            prop_assume!(!name.trim().is_empty());
            let naming = learn(&rows, &[((row + 1) % 36, other), (row, name.clone())], Named::Rows).unwrap();
            let made = naming.pattern.name(row, &rows[row]);
            prop_assert_eq!(made.as_deref(), Some(name.trim()));
        }

        #[test]
        fn what_a_pattern_makes_teaches_it_again(v in 0usize..12, m in 0usize..3) {
            // Names that follow the source are found from any row.
            let rows = vessels();
            let row = v * 3 + m;
            let wanted = |i: usize| format!("{} {}", rows[i].parts[2], rows[i].parts[1]);
            let naming = learn(&rows, &[(row, wanted(row)), ((row + 17) % 36, wanted((row + 17) % 36))], Named::Rows).unwrap();
            prop_assert!(naming.unfit.is_empty());
            for (i, found) in rows.iter().enumerate() {
                prop_assert_eq!(naming.pattern.name(i, found), Some(wanted(i)));
            }
        }
    }
}
