//! Binding from the source: what was found at a device, matched onto the tags of the plant that have no source yet, by name, type and
//! engineering unit. What is proposed says why, and what else fits as well.

use super::{Item, Plant, Tag};
use crate::unit;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use uuid::Uuid;

/// Least score of a match that is proposed, out of 100.
const ENOUGH: i32 = 60;
/// Shortest word that stands for a longer one that begins with it: “temp” for “temperature”.
const SHORTEST: usize = 3;
/// Most other tags that are named beside a match.
const MOST_RIVALS: usize = 5;
/// Most tags that a found item is held against.
const MOST_HELD: usize = 5000;

/// What a value is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Holds {
    /// Nobody says.
    #[default]
    Unknown,
    Number,
    Switch,
    Text,
}

/// Something found at a device.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// What stands above it, from the top.
    pub path: Vec<String>,
    pub name: String,
    /// As the device says it; empty where it does not.
    pub unit: String,
    pub holds: Holds,
    pub writable: bool,
}

/// A tag that a found item fits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Match {
    pub tag: Uuid,
    /// Out of 100.
    pub score: i32,
    /// Why it fits, in words.
    pub reasons: Vec<String>,
    /// What to look at before it is bound, in words.
    pub doubts: Vec<String>,
}

/// What fits a found item.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Matched {
    /// The tag to bind; `None` where none fits well enough, or several fit equally well.
    pub best: Option<Match>,
    /// Other tags that fit, the best first.
    pub rivals: Vec<Match>,
}

/// A name taken apart: words in small letters, numbers without zeros in front.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Words {
    words: Vec<String>,
    numbers: Vec<String>,
    /// Numbers with the word right before them: “ex” and “1” of EX-1.
    numbered: Vec<(String, String)>,
}

impl Words {
    /// Takes names apart where their letters change: at anything but letters and digits, between letters and digits, and before a
    /// large letter behind a small one.
    fn of<'a>(names: impl IntoIterator<Item = &'a str>) -> Words {
        let mut all = Words::default();
        for name in names {
            let (mut word, mut before) = (String::new(), None);
            let mut last = ' ';
            for c in name.chars().take(200).chain([' ']) {
                let ends = !c.is_alphanumeric()
                    || c.is_ascii_digit() != last.is_ascii_digit()
                    // A word has two letters at least: pH is one.
                    || (c.is_uppercase() && last.is_lowercase() && word.chars().count() > 1);
                if ends && !word.is_empty() {
                    before = all.put(std::mem::take(&mut word), before.as_ref());
                }
                if c.is_alphanumeric() {
                    word.extend(c.to_lowercase());
                }
                last = c;
            }
        }
        all
    }

    /// Takes in a word or a number; gives it where a number may follow that belongs to it.
    fn put(&mut self, word: String, before: Option<&String>) -> Option<String> {
        if word.bytes().all(|b| b.is_ascii_digit()) {
            let digits = word.trim_start_matches('0');
            let number = if digits.is_empty() { "0" } else { digits }.to_owned();
            if let Some(word) = before {
                self.numbered.push((word.clone(), number.clone()));
            }
            self.numbers.push(number);
            None
        } else {
            self.words.push(word.clone());
            Some(word)
        }
    }

    fn len(&self) -> usize {
        self.words.len() + self.numbers.len()
    }

    /// How many of these stand in one of the others, too: a word as it is or as the beginning of the other, a number as it is.
    fn shared(&self, others: &[&Words]) -> usize {
        let has_word = |word: &str| others.iter().any(|other| other.words.iter().any(|o| is_alike(word, o)));
        let has_number = |number: &String| others.iter().any(|other| other.numbers.contains(number));
        self.words.iter().filter(|word| has_word(word)).count() + self.numbers.iter().filter(|n| has_number(n)).count()
    }

    /// Whether another one has the words of this, but with other numbers: EX-1 and EX-2 differ by their number alone.
    fn has_other_number(&self, other: &Words) -> bool {
        self.numbered.iter().any(|(word, number)| {
            let mut alike = other.numbered.iter().filter(|(o, _)| is_alike(word, o)).map(|(_, n)| n).peekable();
            alike.peek().is_some() && alike.all(|n| n != number)
        })
    }
}

fn is_alike(a: &str, b: &str) -> bool {
    let begins = |short: &str, long: &str| short.len() >= SHORTEST && long.starts_with(short);
    a == b || begins(a, b) || begins(b, a)
}

/// The words of a found item: of its name, of what stands right above it, and of all.
struct FoundWords {
    name: Words,
    parent: Words,
    all: Words,
}

impl FoundWords {
    fn of(found: &Found) -> FoundWords {
        let path = || found.path.iter().map(String::as_str);
        FoundWords {
            name: Words::of([found.name.as_str()]),
            parent: Words::of(path().next_back()),
            all: Words::of(path().chain([found.name.as_str()])),
        }
    }
}

/// A tag without a source.
struct Open<'a> {
    tag: Uuid,
    name: Words,
    /// Of its place, and of what that stands in.
    place: Words,
    above: Words,
    place_name: &'a str,
    unit: &'a str,
    holds: Holds,
    writable: bool,
}

impl<'a> Open<'a> {
    fn of(plant: &'a Plant, tag: &'a Item<Tag>) -> Open<'a> {
        let set = &tag.set;
        let place = plant.places.get(&set.place);
        let above = place.and_then(|p| p.set.parent).map(|id| plant.path(Some(id))).unwrap_or_default();
        let place_name = place.map_or("", |p| p.set.name.as_str());
        let states = set.states.and_then(|id| plant.states.get(&id));
        // What has a unit or names for whole numbers is a number; of everything else nobody knows before it is bound.
        let holds = if states.is_some() || !set.unit.is_empty() { Holds::Number } else { Holds::Unknown };
        Open {
            tag: tag.id,
            name: Words::of([set.name.as_str()]),
            place: Words::of([place_name]),
            above: Words::of(above.split('/')),
            place_name,
            unit: &set.unit,
            holds,
            writable: set.writable,
        }
    }

    /// How well it fits a found item; `None` where it cannot be meant.
    fn fit(&self, found: &Found, FoundWords { name, parent, all }: &FoundWords) -> Option<Match> {
        // Of many places alike all but one are ruled out here, before anything is put into words.
        if self.place.has_other_number(all) || self.above.has_other_number(all) {
            return None;
        }
        let (mut reasons, mut doubts) = (Vec::new(), Vec::new());
        if self.name.shared(&[name]) == 0 {
            return None;
        }
        // A device says “air” and below it “temperature” where people say “Air temperature”.
        let shared = self.name.shared(&[name, parent]);
        // What it is called beyond the names of tag and place speaks for another one.
        let beside = name.len() - name.shared(&[&self.name, &self.place]);
        let mut score = 45 * shared as i32 / self.name.len() as i32 - 8 * beside.min(3) as i32;
        reasons.push(match shared == self.name.len() && beside == 0 {
            true => "same name".to_owned(),
            false => format!("{shared} of {} words of the name", self.name.len()),
        });
        let placed = self.place.shared(&[all]);
        if self.place.len() > 0 && placed > 0 {
            score += 30 * placed as i32 / self.place.len() as i32;
            reasons.push(format!("“{}” in its path", self.place_name));
        }
        score += i32::from(self.above.shared(&[all]) > 0) * 5;
        match (unit::find(self.unit), unit::find(&found.unit)) {
            _ if !self.unit.is_empty() && self.unit == found.unit => {
                score += 15;
                reasons.push(format!("both in {}", self.unit));
            }
            (Some(own), Some(theirs)) if own == theirs => {
                score += 15;
                reasons.push(format!("both in {}", self.unit));
            }
            (Some(own), Some(theirs)) if own.quantity != theirs.quantity => return None,
            (Some(_), Some(_)) => {
                score += 5;
                doubts.push(format!("The device sends {}, the tag is in {}. Set its scaling.", found.unit, self.unit));
            }
            // Where one of them does not say, nothing speaks against it.
            _ => score += 8,
        }
        match (self.holds, found.holds) {
            (Holds::Number, Holds::Text) => return None,
            (Holds::Number, Holds::Number) => score += 5,
            _ => score += 3,
        }
        match (self.writable, found.writable) {
            (true, false) => doubts.push("The tag is writable, but the device does not say that this can be written.".into()),
            _ => score += 2,
        }
        Some(Match { tag: self.tag, score: score.clamp(0, 100), reasons, doubts })
    }
}

/// Matches found items onto the tags under a place (`None`: the whole plant) that have neither a source nor a formula. Each tag is
/// proposed at most once; where two fit equally well, neither is.
pub fn matched(plant: &Plant, under: Option<Uuid>, found: &[Found]) -> Vec<Matched> {
    let wanted =
        |tag: &Tag| tag.connection.is_none() && tag.formula.is_none() && under.is_none_or(|top| plant.lies_under(tag.place, top));
    let mut open: Vec<Open<'_>> = plant.tags.values().filter(|t| wanted(&t.set)).map(|t| Open::of(plant, t)).collect();
    open.sort_by_key(|one| one.tag);
    let by_word = index(&open);
    let mut all: Vec<Matched> = Vec::with_capacity(found.len());
    let mut pairs: Vec<(i32, usize, Match)> = Vec::new();
    for (at, item) in found.iter().enumerate() {
        let words = FoundWords::of(item);
        let held = held_against(&by_word, &words.name);
        let mut fits: Vec<Match> = held.into_iter().filter_map(|i| open[i].fit(item, &words)).collect();
        fits.sort_by_key(|m| (-m.score, m.tag));
        fits.truncate(MOST_RIVALS + 1);
        pairs.extend(fits.iter().filter(|m| m.score >= ENOUGH).map(|m| (m.score, at, m.clone())));
        all.push(Matched { best: None, rivals: fits });
    }
    // The best pairs first. Where an item or a tag has another pair that is as good, nobody can tell which is meant.
    pairs.sort_by_key(|(score, at, m)| (-score, *at, m.tag));
    let mut as_good: HashMap<(Side, i32), usize> = HashMap::new();
    for (score, at, m) in &pairs {
        *as_good.entry((Side::Found(*at), *score)).or_default() += 1;
        *as_good.entry((Side::Tag(m.tag), *score)).or_default() += 1;
    }
    let mut bound: HashSet<Side> = HashSet::new();
    for (score, at, m) in pairs {
        let sides = [Side::Found(at), Side::Tag(m.tag)];
        if sides.iter().any(|side| bound.contains(side) || as_good[&(*side, score)] > 1) {
            continue;
        }
        bound.extend(sides);
        all[at].rivals.retain(|rival| rival.tag != m.tag);
        all[at].best = Some(m);
    }
    all
}

/// One side of a pair.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Side {
    Found(usize),
    Tag(Uuid),
}

/// Which tags have a word in their name.
fn index(open: &[Open<'_>]) -> BTreeMap<String, Vec<usize>> {
    let mut by_word: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (i, one) in open.iter().enumerate() {
        for word in one.name.words.iter().chain(&one.name.numbers) {
            by_word.entry(word.clone()).or_default().push(i);
        }
    }
    by_word
}

/// The tags whose names share a word with a found one.
fn held_against(by_word: &BTreeMap<String, Vec<usize>>, name: &Words) -> BTreeSet<usize> {
    let mut held = BTreeSet::new();
    for word in name.words.iter().chain(&name.numbers) {
        // Longer words that begin with it, and shorter ones with which it begins.
        let longer = by_word.range(word.clone()..).take_while(|(other, _)| other.starts_with(word.as_str()));
        let ends = word.char_indices().map(|(i, _)| i).filter(|i| *i >= SHORTEST);
        let shorter = ends.filter_map(|end| by_word.get_key_value(&word[..end]));
        for (_, tags) in longer.chain(shorter).filter(|(other, _)| is_alike(word, other)) {
            held.extend(tags.iter().take(MOST_HELD.saturating_sub(held.len())));
        }
    }
    held
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Stored};
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// Tags of vessels, by place and name.
    fn plant(tags: &[(u128, &str, &str)]) -> Plant {
        let item = |kind, n: u128, own: Json| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 1,
            own: own.as_object().unwrap().clone(),
        };
        let mut rows = vec![
            item(Kind::Place, 1, json!({"name": "Extraction"})),
            item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
            item(Kind::Place, 3, json!({"name": "EX-2", "parent": id(1)})),
            item(Kind::Place, 4, json!({"name": "Screw press", "parent": id(1)})),
            item(Kind::Place, 5, json!({"name": "Agitator", "parent": id(2)})),
            item(Kind::Place, 6, json!({"name": "Agitator", "parent": id(3)})),
        ];
        for (n, (place, name, unit)) in tags.iter().enumerate() {
            rows.push(item(Kind::Tag, 100 + n as u128, json!({"name": name, "place": id(*place), "unit": unit})));
        }
        Plant::from_stored(1, rows).0
    }

    fn found(path: &str, unit: &str) -> Found {
        let mut path: Vec<String> = path.split('/').map(str::to_owned).collect();
        let name = path.pop().unwrap();
        Found { path, name, unit: unit.into(), holds: Holds::Number, writable: false }
    }

    #[rstest]
    #[case::by_path_and_name("Area2/EX01/Level", "%", Some("EX-1/Level"))]
    #[case::all_in_the_name("EX_2_Level", "%", Some("EX-2/Level"))]
    #[case::short_words("Vessels/EX-2/TempPV", "°C", Some("EX-2/Temperature"))]
    #[case::the_plainer_one("EX-1/LevelSetpoint", "%", Some("EX-1/Level setpoint"))]
    #[case::another_number("EX-3/Level", "%", None)]
    #[case::another_quantity("EX-1/Level", "bar", None)]
    #[case::said_in_two_steps("EX-1/Level/Setpoint", "%", Some("EX-1/Level setpoint"))]
    #[case::further_up("EX-2/Agitator/Current", "A", Some("EX-2/Agitator/Current"))]
    #[case::nothing_alike("EX-1/Torque", "", None)]
    #[case::two_letters("EX1/pH_PV", "", Some("EX-1/pH"))]
    #[case::no_place_at_all("Level", "%", None)]
    fn names_and_units_find_their_tag(#[case] path: &str, #[case] unit: &str, #[case] wanted: Option<&str>) {
        let plant = plant(&[
            (2, "Level", "%"),
            (2, "Level setpoint", "%"),
            (2, "Temperature", "°C"),
            (3, "Level", "%"),
            (3, "Level setpoint", "%"),
            (3, "Temperature", "°C"),
            (2, "pH", ""),
            (5, "Current", "A"),
            (6, "Current", "A"),
        ]);
        let all = matched(&plant, None, &[found(path, unit)]);
        let best = all[0].best.as_ref().map(|m| plant.tag_path(&plant.tags[&m.tag].set).replace("Extraction/", ""));
        assert_eq!(best.as_deref(), wanted, "{all:?}");
    }

    #[test]
    fn a_match_says_why_and_what_to_look_at() {
        let plant = plant(&[(4, "Pressure", "bar"), (4, "Torque", "")]);
        let items = [found("Drying/Screw press/Pressure", "kPa"), found("Drying/Screw press/Torque", "N·m")];
        let all = matched(&plant, None, &items);
        let best = all[0].best.as_ref().unwrap();
        assert_eq!(best.reasons, ["same name", "“Screw press” in its path"]);
        assert_eq!(best.doubts, ["The device sends kPa, the tag is in bar. Set its scaling."]);
        assert_eq!(all[1].best.as_ref().map(|m| m.tag), Some(id(101)), "where the tag has no unit, nothing speaks against it");
    }

    #[test]
    fn two_that_fit_equally_are_left_to_people_and_bound_ones_are_no_question() {
        let mut plant = plant(&[(2, "Level", "%")]);
        let twins = [found("A/EX-1/Level", "%"), found("B/EX-1/Level", "%")];
        let all = matched(&plant, None, &twins);
        assert!(all.iter().all(|m| m.best.is_none() && m.rivals.len() == 1), "{all:?}");
        assert!(matched(&plant, Some(id(3)), &twins[..1])[0].rivals.is_empty(), "it does not lie there");
        let text = Found { holds: Holds::Text, ..twins[0].clone() };
        assert!(matched(&plant, None, &[text])[0].rivals.is_empty(), "a text has no unit");
        let mut own = plant.tags[&id(100)].own.clone();
        own.insert("formula".into(), json!({"text": "1"}));
        plant.put(Kind::Tag, id(100), 1, 2, own).unwrap();
        assert!(matched(&plant, None, &twins[..1])[0].rivals.is_empty());
    }

    proptest! {
        /// Whatever is found in whatever order: no tag is proposed twice, and the order changes nothing.
        #[test]
        fn each_tag_is_proposed_once_whatever_the_order(
            tags in prop::collection::vec((2u128..5, "(Level|Flow|Temp)( [12])?"), 0..12),
            items in prop::collection::vec("(EX-1|EX2|Press)/(Level|Flow|Temperature)[12]?", 0..12),
        ) {
            let tags: Vec<(u128, &str, &str)> = tags.iter().map(|(place, name)| (*place, name.as_str(), "%")).collect();
            let plant = plant(&tags);
            let items: Vec<Found> = items.iter().map(|path| found(path, "%")).collect();
            let best = |items: &[Found]| -> Vec<Option<Uuid>> {
                matched(&plant, None, items).into_iter().map(|m| m.best.map(|b| b.tag)).collect()
            };
            let there = best(&items);
            let bound: Vec<Uuid> = there.iter().flatten().copied().collect();
            prop_assert_eq!(bound.iter().collect::<BTreeSet<_>>().len(), bound.len());
            let mut back = best(&items.iter().rev().cloned().collect::<Vec<_>>());
            back.reverse();
            prop_assert_eq!(back, there);
        }
    }
}
