//! Tags that a source makes by itself: it announces what it met (an *arrival*), named after a mapping, and [`plan`] turns that into
//! edits for the one door.

use crate::plant::{Edit, Kind, Level, Op, Own, Plant};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Longest template, in bytes.
const LONGEST: usize = 500;
/// Longest key of an arrival, in bytes.
pub const LONGEST_KEY: usize = 1000;

/// A text in which parts of a source stand by their number: `Meters/{3}`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template(Vec<Piece>);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Letters(String),
    /// The number of a part, from 0.
    Part(usize),
}

impl Template {
    /// Reads one.
    ///
    /// # Errors
    /// What is wrong, as a sentence.
    pub fn parse(text: &str) -> Result<Template, String> {
        let mut pieces = Vec::new();
        let mut rest = text.trim();
        if rest.len() > LONGEST {
            return Err(format!("This has at most {LONGEST} bytes."));
        }
        while let Some(open) = rest.find(['{', '}']) {
            let inside = rest[open..].strip_prefix('{').and_then(|after| after.split_once('}'));
            let number = inside.and_then(|(number, after)| Some((number.trim().parse::<usize>().ok()?.checked_sub(1)?, after)));
            let Some((part, after)) = number else {
                return Err("Braces hold the number of a level, such as {3}.".into());
            };
            if open > 0 {
                pieces.push(Piece::Letters(rest[..open].to_owned()));
            }
            pieces.push(Piece::Part(part));
            rest = after;
        }
        if !rest.is_empty() {
            pieces.push(Piece::Letters(rest.to_owned()));
        }
        if pieces.is_empty() { Err("Enter a text; {3} stands for the third level.".into()) } else { Ok(Template(pieces)) }
    }

    /// The highest number of a part that it names; 0 where it names none.
    pub fn highest(&self) -> usize {
        let number = |piece: &Piece| if let Piece::Part(part) = piece { part + 1 } else { 0 };
        self.0.iter().map(number).max().unwrap_or(0)
    }

    /// The text for these parts; one that is missing is left out.
    pub fn fill_known(&self, parts: &[&str]) -> String {
        let text = |piece: &Piece| match piece {
            Piece::Letters(letters) => letters.clone(),
            Piece::Part(part) => parts.get(*part).copied().unwrap_or_default().to_owned(),
        };
        self.0.iter().map(text).collect()
    }

    /// The text for these parts.
    ///
    /// # Errors
    /// A sentence, where a part is missing or empty.
    pub fn fill(&self, parts: &[&str]) -> Result<String, String> {
        let mut text = String::new();
        for piece in &self.0 {
            match piece {
                Piece::Letters(letters) => text.push_str(letters),
                Piece::Part(part) => match parts.get(*part) {
                    Some(found) if !found.trim().is_empty() => text.push_str(found),
                    Some(_) => return Err(format!("Level {} is empty.", part + 1)),
                    None => return Err(format!("There is no level {}.", part + 1)),
                },
            }
        }
        Ok(text)
    }
}

/// What a connection makes of whatever it meets, now or later: the same tags for each topic that fits.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mapping {
    pub id: Uuid,
    /// Which topics, as the kind of the connection writes a filter.
    pub topics: String,
    /// The path of the place of the tags; `{3}` stands for the third level of the topic.
    pub place: String,
    /// Whether the tags are recorded.
    #[serde(default)]
    pub record: bool,
    pub tags: Vec<Mapped>,
}

/// A tag that a mapping makes for each topic.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mapped {
    /// `{3}` stands for the third level of the topic.
    pub name: String,
    #[serde(default)]
    pub unit: String,
    #[serde(default)]
    pub decimals: Option<u8>,
    /// What is taken of a message: the fields of a tag's source without the topic.
    #[serde(default)]
    pub point: Own,
}

/// A tag that an arrival is to have.
#[derive(Clone, Debug, PartialEq)]
pub struct NewTag {
    /// The path of its place.
    pub place: String,
    pub name: String,
    /// Where in the connection it is read.
    pub point: Own,
    /// Its further settings.
    pub set: Own,
}

/// Something that a source met: a topic on which a message came, a device that announced itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Arrival {
    /// The mapping after which it is named.
    pub mapping: Uuid,
    /// By what it is known within its connection.
    pub key: String,
    pub tags: Vec<NewTag>,
    /// Why it gives no tags, as a sentence; empty where it does.
    pub refused: String,
}

/// What becomes of an arrival.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Outcome {
    /// Which one, counted from 0.
    pub arrival: usize,
    /// Where its tags are read, and their ids: new ones, and those that were there.
    pub tags: Vec<(String, Uuid)>,
    /// How many of them are new.
    pub made: usize,
    /// Places that were made for them, those above first.
    pub places: Vec<Uuid>,
    /// Why it gives no tags, as a sentence.
    pub refused: String,
}

/// Edits that make the tags of arrivals, and what becomes of each.
#[derive(Debug, Default, PartialEq)]
pub struct Plan {
    pub edits: Vec<Edit>,
    pub outcomes: Vec<Outcome>,
    /// How many tags are new.
    pub made: usize,
}

/// Plans the tags of arrivals at a connection. `read_at` says by what text a point is told apart; `there` are the tags of the
/// connection by it; `known` says whether a tag was made before for an arrival and a point, so that one that somebody took away
/// does not come again; `id` gives new ids.
///
/// An arrival is taken in whole or refused: none of its tags is made where one of them cannot be.
pub fn plan(
    plant: &Plant,
    connection: Uuid,
    arrivals: &[Arrival],
    read_at: &dyn Fn(&Own) -> Option<String>,
    there: &HashMap<String, Uuid>,
    known: &dyn Fn(&Arrival, &str) -> bool,
    id: &mut dyn FnMut() -> Uuid,
) -> Plan {
    let mut places: HashMap<String, Uuid> = plant.places.keys().map(|&id| (plant.path(Some(id)), id)).collect();
    let mut names: HashMap<(Uuid, String), Uuid> = HashMap::new();
    for tag in plant.tags.values() {
        names.insert((tag.set.place, tag.set.name.clone()), tag.id);
    }
    let mut there = there.clone();
    let mut plan = Plan::default();
    for (index, arrival) in arrivals.iter().enumerate() {
        let mut outcome = Outcome { arrival: index, refused: arrival.refused.clone(), ..Outcome::default() };
        let (mut edits, mut new_places, mut new_names, mut new_points) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for (order, tag) in arrival.tags.iter().enumerate().take_while(|_| arrival.refused.is_empty()) {
            let Some(at) = read_at(&tag.point) else {
                outcome.refused = format!("“{}” cannot be read there.", tag.name);
                break;
            };
            if known(arrival, &at) {
                continue;
            }
            if let Some(&tag) = there.get(&at) {
                outcome.tags.push((at, tag));
                continue;
            }
            let place =
                make_places(&tag.place, &mut places, &mut new_places, &mut edits, plant.places.len() + plan.edits.len(), id);
            let Some(place) = place else {
                outcome.refused = "It has no place.".into();
                break;
            };
            if names.contains_key(&(place, tag.name.clone())) {
                outcome.refused = format!("{}/{} is another tag already.", tag.place, tag.name);
                break;
            }
            let new = id();
            let mut set = tag.set.clone();
            let fields = json!({"name": tag.name, "place": place, "connection": connection, "point": tag.point, "order": order});
            set.extend(fields.as_object().cloned().unwrap_or_default());
            edits.push(Edit { kind: Kind::Tag, id: new, op: Op::Create(set, None), seen: None });
            names.insert((place, tag.name.clone()), new);
            new_names.push((place, tag.name.clone()));
            there.insert(at.clone(), new);
            new_points.push(at.clone());
            outcome.tags.push((at, new));
            outcome.made += 1;
        }
        if outcome.refused.is_empty() {
            plan.made += outcome.made;
            outcome.places = new_places.iter().filter_map(|path| places.get(path).copied()).collect();
            plan.edits.append(&mut edits);
        } else {
            // Nothing of it is made, so nothing of it stands in another one's way.
            (outcome.tags, outcome.made) = (Vec::new(), 0);
            for path in &new_places {
                places.remove(path);
            }
            for name in &new_names {
                names.remove(name);
            }
            for at in &new_points {
                there.remove(at);
            }
        }
        plan.outcomes.push(outcome);
    }
    plan
}

/// Edits that take the tags of an arrival away, and of the places that were made for them those that hold nothing else.
pub fn take_back(plant: &Plant, tags: &[Uuid], places: &[Uuid]) -> Vec<Edit> {
    let mut gone: HashSet<Uuid> = tags.iter().copied().filter(|id| plant.tags.contains_key(id)).collect();
    let away = |kind, id| Edit { kind, id, op: Op::Delete { contents: kind == Kind::Tag }, seen: None };
    let mut edits: Vec<Edit> = tags.iter().filter(|id| gone.contains(id)).map(|&id| away(Kind::Tag, id)).collect();
    for &id in places.iter().rev().filter(|id| plant.places.contains_key(id)) {
        let used = plant.tags.values().any(|tag| tag.set.place == id && !gone.contains(&tag.id))
            || plant.places.values().any(|place| place.set.parent == Some(id) && !gone.contains(&place.id))
            || plant.reports.values().any(|report| report.set.place == Some(id))
            || plant.publications.values().any(|publication| publication.set.places.contains(&id));
        if !used {
            gone.insert(id);
            edits.push(away(Kind::Place, id));
        }
    }
    edits
}

/// The place with a path, made with those above it where they do not exist. `None` for an empty path.
fn make_places(
    path: &str,
    places: &mut HashMap<String, Uuid>,
    new: &mut Vec<String>,
    edits: &mut Vec<Edit>,
    order: usize,
    id: &mut dyn FnMut() -> Uuid,
) -> Option<Uuid> {
    if let Some(&known) = places.get(path) {
        return Some(known);
    }
    let names: Vec<&str> = path.split('/').collect();
    let mut above: Option<Uuid> = None;
    let mut prefix = String::new();
    for (depth, name) in names.iter().enumerate() {
        if depth > 0 {
            prefix.push('/');
        }
        prefix.push_str(name);
        if let Some(&known) = places.get(&prefix) {
            above = Some(known);
            continue;
        }
        let level = match depth {
            _ if depth + 1 == names.len() => Level::Unit,
            0 if names.len() > 2 => Level::Site,
            _ => Level::Area,
        };
        let made = id();
        let set = json!({"name": name, "level": level, "parent": above, "order": order + edits.len() + 1});
        let mut set = set.as_object().cloned().unwrap_or_default();
        set.retain(|_, value| !value.is_null());
        edits.push(Edit { kind: Kind::Place, id: made, op: Op::Create(set, None), seen: None });
        places.insert(prefix.clone(), made);
        new.push(prefix.clone());
        above = Some(made);
    }
    above
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Stored, edit::apply};
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("Meters/{3}", Ok(("Meters/M7", 3)))]
    #[case(" {1} {3} ", Ok(("site M7", 3)))]
    #[case("Boiler", Ok(("Boiler", 0)))]
    #[case("{ 2 }a{1}", Ok(("northasite", 2)))]
    #[case("{5}", Err("There is no level 5."))]
    #[case("{4}", Err("Level 4 is empty."))]
    #[case("", Err("Enter a text; {3} stands for the third level."))]
    #[case("a{", Err("Braces hold the number of a level, such as {3}."))]
    #[case("a}", Err("Braces hold the number of a level, such as {3}."))]
    #[case("{0}", Err("Braces hold the number of a level, such as {3}."))]
    #[case("{name}", Err("Braces hold the number of a level, such as {3}."))]
    fn a_template_is_filled_or_says_why_not(#[case] text: &str, #[case] expected: Result<(&str, usize), &str>) {
        let filled = Template::parse(text).and_then(|t| Ok((t.fill(&["site", "north", "M7", ""])?, t.highest())));
        assert_eq!(filled, expected.map(|(text, highest)| (text.to_owned(), highest)).map_err(str::to_owned));
    }

    const CONNECTION: Uuid = Uuid::from_u128(2);

    fn plant() -> Plant {
        let item = |kind, n, value: serde_json::Value| Stored {
            kind,
            id: Uuid::from_u128(n),
            no: 0,
            revision: 1,
            own: value.as_object().unwrap().clone(),
        };
        let (plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, json!({"name": "Meters"})),
                item(Kind::Connection, 2, json!({"name": "Broker", "kind": "mqtt"})),
                item(Kind::Tag, 3, json!({"name": "Power", "place": Uuid::from_u128(1), "point": {"topic": "x"}})),
            ],
        );
        assert!(broken.is_empty());
        plant
    }

    fn tag(place: &str, name: &str, at: &str) -> NewTag {
        NewTag { place: place.into(), name: name.into(), point: json!({"at": at}).as_object().unwrap().clone(), set: Own::new() }
    }

    fn arrival(key: &str, tags: Vec<NewTag>) -> Arrival {
        Arrival { mapping: Uuid::from_u128(9), key: key.into(), tags, refused: String::new() }
    }

    fn at(point: &Own) -> Option<String> {
        point.get("at").and_then(serde_json::Value::as_str).map(str::to_owned)
    }

    fn planned(arrivals: &[Arrival], there: &[(&str, u128)], known: &[&str]) -> Plan {
        let mut next = 100;
        let there = there.iter().map(|(at, id)| ((*at).to_owned(), Uuid::from_u128(*id))).collect();
        let known = |_: &Arrival, at: &str| known.contains(&at);
        plan(&plant(), CONNECTION, arrivals, &at, &there, &known, &mut || {
            next += 1;
            Uuid::from_u128(next)
        })
    }

    /// What the plant holds after a plan, by path.
    fn after(plan: &Plan) -> Vec<String> {
        let (next, _) = apply(&plant(), &plan.edits, &(), || 7).unwrap();
        let mut all: Vec<_> = next.tags.values().map(|t| next.tag_path(&t.set)).collect();
        all.sort();
        all
    }

    #[test]
    fn two_arrivals_share_the_places_that_the_first_one_makes() {
        let arrivals = [
            arrival("a", vec![tag("Meters/North/M1", "Power", "a1"), tag("Meters/North/M1", "Energy", "a2")]),
            arrival("b", vec![tag("Meters/North/M2", "Power", "b1")]),
        ];
        let plan = planned(&arrivals, &[], &[]);
        let expected = ["Meters/North/M1/Energy", "Meters/North/M1/Power", "Meters/North/M2/Power", "Meters/Power"];
        assert_eq!((after(&plan), plan.made), (expected.map(str::to_owned).to_vec(), 3));
        assert_eq!(plan.outcomes.iter().map(|o| o.tags.len()).collect::<Vec<_>>(), [2, 1]);
        // The first is taken back: what the second needs stays, until it is taken back too.
        let back = |plant: &Plant, outcome: &Outcome| {
            let tags: Vec<Uuid> = outcome.tags.iter().map(|(_, id)| *id).collect();
            apply(plant, &take_back(plant, &tags, &outcome.places), &(), || 8).unwrap().0
        };
        let both = apply(&plant(), &plan.edits, &(), || 7).unwrap().0;
        let one = back(&both, &plan.outcomes[0]);
        let paths = |plant: &Plant| {
            let mut all: Vec<_> = plant.places.keys().map(|&id| plant.path(Some(id))).collect();
            all.sort();
            all
        };
        assert_eq!((paths(&one), one.tags.len()), (["Meters", "Meters/North", "Meters/North/M2"].map(str::to_owned).to_vec(), 2));
        let none = back(&one, &plan.outcomes[1]);
        assert_eq!((paths(&none), none.tags.len()), (vec!["Meters".to_owned(), "Meters/North".to_owned()], 1));
        assert!(take_back(&none, &[Uuid::from_u128(77)], &[Uuid::from_u128(78)]).is_empty());
    }

    #[test]
    fn what_is_read_already_or_was_taken_away_is_not_made_again() {
        let arrivals = [arrival("a", vec![tag("M1", "Power", "a1"), tag("M1", "Energy", "a2"), tag("M1", "Voltage", "a3")])];
        let plan = planned(&arrivals, &[("a1", 3)], &["a2"]);
        assert_eq!(plan.outcomes[0].tags.iter().map(|(at, _)| at.as_str()).collect::<Vec<_>>(), ["a1", "a3"]);
        assert_eq!((plan.made, after(&plan)), (1, vec!["M1/Voltage".to_owned(), "Meters/Power".to_owned()]));
        let none = planned(&arrivals, &[("a1", 3), ("a3", 4)], &["a2"]);
        assert_eq!((none.made, none.edits.len()), (0, 0));
    }

    #[test]
    fn an_arrival_that_clashes_is_refused_whole_and_stands_in_nobodys_way() {
        let arrivals = [
            arrival("a", vec![tag("Meters/M1", "Energy", "a1"), tag("Meters", "Power", "a2")]),
            arrival("b", vec![tag("Meters/M1", "Energy", "b1")]),
            Arrival { refused: "The message holds none of them.".into(), ..arrival("c", vec![tag("M", "x", "c1")]) },
        ];
        let plan = planned(&arrivals, &[], &[]);
        let told: Vec<_> = plan.outcomes.iter().map(|o| (o.refused.as_str(), o.tags.len())).collect();
        let expected = [("Meters/Power is another tag already.", 0), ("", 1), ("The message holds none of them.", 0)];
        assert_eq!((told.as_slice(), plan.made), (expected.as_slice(), 1));
        assert_eq!(after(&plan), ["Meters/M1/Energy", "Meters/Power"]);
    }

    proptest! {
        #[test]
        fn no_text_makes_a_template_panic(text in ".{0,60}", parts in proptest::collection::vec(".{0,8}", 0..5)) {
            let parts: Vec<&str> = parts.iter().map(String::as_str).collect();
            if let Ok(template) = Template::parse(&text) {
                let filled = template.fill(&parts);
                prop_assert!(filled.is_err() || template.highest() <= parts.len());
            }
        }

        #[test]
        fn any_arrivals_give_edits_that_the_plant_takes(
            arrivals in proptest::collection::vec(proptest::collection::vec(("[AB](/[AB]){0,2}", "[PQ]", 0u8..6), 0..4), 0..5)
        ) {
            let arrivals: Vec<_> = arrivals
                .into_iter()
                .map(|tags| arrival("k", tags.iter().map(|(place, name, n)| tag(place, name, &n.to_string())).collect()))
                .collect();
            let plan = planned(&arrivals, &[], &[]);
            prop_assert_eq!(after(&plan).len(), plan.made + 1);
        }
    }
}
