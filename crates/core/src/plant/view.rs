//! Tags as a sheet shows them: filtered and in order, so that any row can be asked for by its index.

mod rules;

pub use rules::{Finding, RuleQuery, RuleView};

use super::{
    Kind, Plant,
    loop_check::{Checks, Proof},
    table::{Cell, Column, Reader, column_of},
};
use crate::{
    TagNo,
    quality::{Class, Quality, Reason},
};
use std::{
    cmp::Ordering,
    collections::{HashMap, HashSet},
};
use uuid::Uuid;

/// What a sheet of tags is ordered by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TagSort {
    /// As the engineer ordered places and tags.
    #[default]
    Plant,
    Name,
    Place,
    Unit,
    /// By connection, then as it is written there.
    Source,
    /// Recorded ones first.
    Recorded,
    /// By any other column of the table of tags.
    Column(&'static str),
}

impl TagSort {
    /// Reads the name of a column.
    pub fn from_name(name: &str) -> Option<TagSort> {
        Some(match name {
            "plant" => TagSort::Plant,
            "name" => TagSort::Name,
            "place" => TagSort::Place,
            "unit" => TagSort::Unit,
            "source" => TagSort::Source,
            "recorded" => TagSort::Recorded,
            other => TagSort::Column(column_of(Kind::Tag, other)?.key),
        })
    }
}

/// Which tags, and in which order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TagQuery {
    /// Only under this place, at any depth.
    pub under: Option<Uuid>,
    pub connection: Option<Uuid>,
    /// Only tags for which this holds, or does not: bound ones are read from a connection or computed by a formula.
    pub bound: Option<bool>,
    pub computed: Option<bool>,
    pub recorded: Option<bool>,
    /// Has an alarm rule that is on.
    pub alarmed: Option<bool>,
    /// Its place is in service.
    pub in_service: Option<bool>,
    /// Is read from the same place of the same connection as another tag.
    pub twice: Option<bool>,
    /// Only tags whose value was of this class when the view was made.
    pub quality: Option<Class>,
    /// Its value was set by hand when the view was made.
    pub by_hand: Option<bool>,
    /// One of its alarms was active or unacknowledged when the view was made.
    pub in_alarm: Option<bool>,
    /// A device is its source, and its proof is this one.
    pub proof: Option<Proof>,
    /// It is read in service and a value of it is known, or not.
    pub answered: Option<bool>,
    /// Which moment is meant where the view depends on values; another number is another view.
    pub moment: u64,
    /// Words that must all occur in the path, whatever their case; parted by spaces or “/”.
    pub words: String,
    pub sort: TagSort,
    /// The other way round.
    pub down: bool,
}

/// What a view must know of the running plant.
pub struct Now<'a> {
    /// How good a tag's value is.
    pub quality: &'a dyn Fn(TagNo) -> Option<Quality>,
    /// Tags with an alarm that is active or unacknowledged.
    pub in_alarm: HashSet<Uuid>,
    pub checks: Option<Checks<'a>>,
    /// Whether a value of a tag is known.
    pub answered: &'a dyn Fn(TagNo) -> bool,
}

impl Default for Now<'_> {
    /// Nothing is known.
    fn default() -> Self {
        Now { quality: &|_| None, in_alarm: HashSet::new(), checks: None, answered: &|_| false }
    }
}

impl TagQuery {
    /// Whether the answer depends on the running plant, and so on the moment.
    pub fn passing(&self) -> bool {
        self.quality.is_some()
            || self.by_hand.is_some()
            || self.in_alarm.is_some()
            || self.proof.is_some()
            || self.answered.is_some()
    }
}

/// The answer to a query over one revision of the plant.
pub struct TagView {
    pub revision: i64,
    pub query: TagQuery,
    tags: Vec<Uuid>,
}

impl TagView {
    /// Filters and sorts. For a hundred thousand tags that takes tenths of a second, once for each revision and query.
    pub fn of(plant: &Plant, query: TagQuery, now: &Now<'_>) -> TagView {
        let places = places(plant, query.under);
        let idle = plant.idle_places();
        let alarmed: HashSet<Uuid> = match query.alarmed {
            Some(_) => plant.rules.values().filter(|r| r.set.enabled).map(|r| r.set.tag).collect(),
            None => HashSet::new(),
        };
        let twice = if query.twice.is_some() { bound_twice(plant) } else { HashSet::new() };
        let words = query.words.to_lowercase();
        let words: Vec<&str> = words.split([' ', '/']).filter(|w| !w.is_empty()).take(12).collect();
        let mut rows: Vec<Row> = Vec::new();
        for tag in plant.tags.values() {
            let Some(place) = places.get(&tag.set.place) else { continue };
            if query.connection.is_some_and(|c| tag.set.connection != Some(c)) {
                continue;
            }
            let wanted = [
                (query.bound, tag.set.connection.is_some() || tag.set.formula.is_some()),
                (query.computed, tag.set.formula.is_some()),
                (query.recorded, tag.set.record),
                (query.alarmed, alarmed.contains(&tag.id)),
                (query.in_service, !idle.contains(&tag.set.place)),
                (query.twice, twice.contains(&tag.id)),
                (query.in_alarm, now.in_alarm.contains(&tag.id)),
            ];
            if wanted.iter().any(|(asked, holds)| asked.is_some_and(|a| a != *holds)) {
                continue;
            }
            if query.proof.is_some() && now.checks.and_then(|checks| checks.proof(tag.id)) != query.proof {
                continue;
            }
            if let Some(asked) = query.answered
                && (tag.set.connection.is_none() || idle.contains(&tag.set.place) || (now.answered)(tag.no) != asked)
            {
                continue;
            }
            if query.quality.is_some() || query.by_hand.is_some() {
                let quality = (now.quality)(tag.no);
                let by_hand = quality.is_some_and(|q| q.reason() == Reason::ByHand);
                if query.quality.is_some_and(|q| quality.map(Quality::class) != Some(q))
                    || query.by_hand.is_some_and(|asked| asked != by_hand)
                {
                    continue;
                }
            }
            if !words.is_empty() {
                let name = tag.set.name.to_lowercase();
                if !words.iter().all(|w| place.path.contains(w) || name.contains(w)) {
                    continue;
                }
            }
            rows.push(Row { tag: tag.id, place, name: &tag.set.name, order: tag.set.order });
        }
        let set = |row: &Row| &plant.tags[&row.tag].set;
        let source = |row: &Row| {
            let set = set(row);
            let connection = set.connection.and_then(|id| plant.connections.get(&id)).map(|c| c.set.name.as_str());
            (connection.unwrap_or_default(), set.point.get("address").and_then(|a| a.as_str()).unwrap_or_default())
        };
        let by_plant = |a: &Row, b: &Row| {
            (a.place.rank.cmp(&b.place.rank)).then(a.order.total_cmp(&b.order)).then_with(|| natural(a.name, b.name))
        };
        let texts: HashMap<Uuid, Key> = match query.sort {
            TagSort::Column(key) => match column_of(Kind::Tag, key) {
                Some(column) => {
                    let reader = Reader::of(plant, |_| matches!(column.cell, Cell::Limit(..)));
                    rows.iter().map(|r| (r.tag, Key::of(&reader, column, Kind::Tag, r.tag))).collect()
                }
                None => HashMap::new(),
            },
            _ => HashMap::new(),
        };
        rows.sort_by(|a, b| {
            let order = match query.sort {
                TagSort::Column(_) => match (texts.get(&a.tag), texts.get(&b.tag)) {
                    (Some(a), Some(b)) => a.compare(b),
                    _ => Ordering::Equal,
                },
                TagSort::Plant => Ordering::Equal,
                TagSort::Name => natural(a.name, b.name),
                TagSort::Place => natural(&a.place.path, &b.place.path),
                TagSort::Unit => set(a).unit.cmp(&set(b).unit),
                TagSort::Source => {
                    let (a, b) = (source(a), source(b));
                    a.0.cmp(b.0).then_with(|| natural(a.1, b.1))
                }
                TagSort::Recorded => set(b).record.cmp(&set(a).record),
            };
            let order = if query.sort == TagSort::Plant { by_plant(a, b) } else { order };
            let order = if query.down { order.reverse() } else { order };
            order.then_with(|| by_plant(a, b)).then(a.tag.cmp(&b.tag))
        });
        let tags = rows.iter().map(|r| r.tag).collect();
        TagView { revision: plant.revision, tags, query }
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.tags.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.tags.is_empty()
    }

    /// The rows from an index on, as many as there are.
    pub fn rows(&self, from: usize, count: usize) -> &[Uuid] {
        let from = from.min(self.tags.len());
        &self.tags[from..from.saturating_add(count).min(self.tags.len())]
    }
}

/// What a column is ordered by.
enum Key {
    Number(f64),
    Text(String),
}

impl Key {
    fn of(reader: &Reader<'_>, column: &Column, kind: Kind, id: Uuid) -> Key {
        let text = reader.cell(column, kind, id);
        match column.cell {
            // What is not set stands behind all numbers.
            Cell::Number | Cell::Level | Cell::Limit(..) | Cell::Whole => Key::Number(text.parse().unwrap_or(f64::INFINITY)),
            _ => Key::Text(text),
        }
    }

    fn compare(&self, other: &Key) -> Ordering {
        match (self, other) {
            (Key::Number(a), Key::Number(b)) => a.total_cmp(b),
            (Key::Text(a), Key::Text(b)) => natural(a, b),
            _ => Ordering::Equal,
        }
    }
}

/// Tags that are read from the same place of the same connection as another.
fn bound_twice(plant: &Plant) -> HashSet<Uuid> {
    let mut by_source: HashMap<(Uuid, String), Vec<Uuid>> = HashMap::new();
    for tag in plant.tags.values() {
        let Some(connection) = tag.set.connection else { continue };
        let source = plant.connections.get(&connection).and_then(|c| plant.source(&c.set, &tag.set).ok());
        let Some(source) = source.filter(|s| !s.point.is_empty()) else { continue };
        let mut fields: Vec<String> = source.point.iter().map(|(k, v)| format!("{k}={v}")).collect();
        fields.sort();
        by_source.entry((connection, fields.join(" "))).or_default().push(tag.id);
    }
    by_source.into_values().filter(|tags| tags.len() > 1).flatten().collect()
}

struct Row<'a> {
    tag: Uuid,
    place: &'a Place,
    name: &'a str,
    order: f64,
}

struct Place {
    /// In lower case.
    path: String,
    /// Where it stands when the tree is read from top to bottom.
    rank: usize,
}

/// The places under one (all without), each with its rank.
fn places(plant: &Plant, under: Option<Uuid>) -> HashMap<Uuid, Place> {
    let mut children: HashMap<Option<Uuid>, Vec<(f64, &str, Uuid)>> = HashMap::new();
    for place in plant.places.values() {
        children.entry(place.set.parent).or_default().push((place.set.order, &place.set.name, place.id));
    }
    for list in children.values_mut() {
        // What is to come first is taken from the end.
        list.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| natural(b.1, a.1)));
    }
    let mut found = HashMap::new();
    let mut waiting: Vec<Uuid> = match under {
        Some(top) => plant.places.get(&top).map(|p| p.id).into_iter().collect(),
        None => children.get(&None).map(|list| list.iter().map(|c| c.2).collect()).unwrap_or_default(),
    };
    while let Some(id) = waiting.pop() {
        let rank = found.len();
        found.insert(id, Place { path: plant.path(Some(id)).to_lowercase(), rank });
        waiting.extend(children.get(&Some(id)).into_iter().flatten().map(|c| c.2));
    }
    found
}

/// Compares as people order names: runs of digits by their number, the rest by character, so that “EX-2” stands before
/// “EX-10”.
pub fn natural(a: &str, b: &str) -> Ordering {
    let (mut a, mut b) = (a.chars().peekable(), b.chars().peekable());
    loop {
        match (a.peek().copied(), b.peek().copied()) {
            (None, None) => return Ordering::Equal,
            (None, _) => return Ordering::Less,
            (_, None) => return Ordering::Greater,
            (Some(x), Some(y)) if x.is_ascii_digit() && y.is_ascii_digit() => {
                let digits = |it: &mut std::iter::Peekable<std::str::Chars>| {
                    let mut run = String::new();
                    while let Some(d) = it.next_if(char::is_ascii_digit) {
                        // Zeros in front count for nothing.
                        if run == "0" {
                            run.clear();
                        }
                        run.push(d);
                    }
                    run
                };
                let (x, y) = (digits(&mut a), digits(&mut b));
                let order = x.len().cmp(&y.len()).then(x.cmp(&y));
                if order.is_ne() {
                    return order;
                }
            }
            (Some(x), Some(y)) => {
                let order = x.to_lowercase().cmp(y.to_lowercase());
                if order.is_ne() {
                    return order;
                }
                a.next();
                b.next();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{
        Connection, Kind, Own, Stored,
        loop_check::{LoopCheck, Wire},
    };
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;
    use std::sync::{Arc, LazyLock};

    #[rstest]
    #[case("EX-2", "EX-10", Ordering::Less)]
    #[case("EX-02", "ex-2", Ordering::Equal)]
    #[case("007", "07", Ordering::Equal)]
    #[case("a1b2", "a1b10", Ordering::Less)]
    #[case("Level", "level 2", Ordering::Less)]
    #[case("", "a", Ordering::Less)]
    fn names_as_people_order_them(#[case] a: &str, #[case] b: &str, #[case] wanted: Ordering) {
        assert_eq!(natural(a, b), wanted);
        assert_eq!(natural(b, a), wanted.reverse());
    }

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn plant(tags: &[(u128, &str, &str, f64)]) -> Plant {
        let place = |n: u128, parent: Option<u128>, name: &str, order: f64| Stored {
            kind: Kind::Place,
            id: id(n),
            no: 0,
            revision: 1,
            own: own(json!({"name": name, "parent": parent.map(id), "order": order})),
        };
        let mut rows = vec![
            place(1, None, "Works", 0.0),
            place(2, Some(1), "Extraction", 2.0),
            place(3, Some(1), "Landing", 1.0),
            place(4, Some(2), "EX-10", 1.0),
            place(5, Some(2), "EX-2", 1.0),
        ];
        for (n, (at, name, unit, order)) in tags.iter().enumerate() {
            let set = json!({"name": name, "place": id(*at), "unit": unit, "order": order, "record": n % 2 == 0});
            rows.push(Stored { kind: Kind::Tag, id: id(100 + n as u128), no: n as u32 + 1, revision: 1, own: own(set) });
        }
        Plant::from_stored(7, rows).0
    }

    fn own(value: serde_json::Value) -> Own {
        value.as_object().cloned().unwrap_or_default()
    }

    /// Every connection leads to a device.
    struct Outside;

    impl Wire for Outside {
        fn leads_to(&self, _: &Connection) -> Option<String> {
            Some(String::new())
        }

        fn read_at(&self, _: &Connection, _: &Own) -> String {
            String::new()
        }
    }

    /// Odd numbers are good, the first of them by hand, even ones bad.
    fn quality_of(no: TagNo) -> Option<Quality> {
        Some(Quality::of(match no {
            1 => Reason::ByHand,
            odd if odd % 2 == 1 => Reason::Fine,
            _ => Reason::NoAnswer,
        }))
    }

    fn now(plant: &Plant) -> Now<'_> {
        static NONE: LazyLock<HashMap<Uuid, Arc<LoopCheck>>> = LazyLock::new(HashMap::new);
        let checks = Some(Checks { plant, last: &NONE, wire: &Outside });
        Now { quality: &quality_of, in_alarm: HashSet::from([id(102)]), checks, answered: &|no| no != 2 }
    }

    fn names(plant: &Plant, query: TagQuery) -> Vec<String> {
        let view = TagView::of(plant, query, &now(plant));
        view.rows(0, view.len()).iter().map(|id| plant.tags[id].set.name.clone()).collect()
    }

    #[test]
    fn the_plants_own_order_is_that_of_the_tree() {
        let plant = plant(&[(4, "d", "", 0.0), (5, "c", "", 1.0), (5, "b", "", 0.0), (3, "a", "", 0.0), (2, "top", "", 0.0)]);
        assert_eq!(names(&plant, TagQuery::default()), ["a", "top", "b", "c", "d"]);
        assert_eq!(names(&plant, TagQuery { under: Some(id(2)), ..TagQuery::default() }), ["top", "b", "c", "d"]);
        assert_eq!(names(&plant, TagQuery { words: "ex-2 B".into(), ..TagQuery::default() }), ["b"]);
        assert_eq!(
            names(&plant, TagQuery { sort: TagSort::Name, down: true, ..TagQuery::default() }),
            ["top", "d", "c", "b", "a"]
        );
        assert!(names(&plant, TagQuery { under: Some(id(99)), ..TagQuery::default() }).is_empty());
    }

    #[test]
    fn tags_are_chosen_by_what_they_are() {
        let mut plant = plant(&[(4, "a", "", 0.0), (4, "b", "", 1.0), (4, "c", "", 2.0), (5, "d", "", 0.0)]);
        let connection = Stored {
            kind: Kind::Connection,
            id: id(50),
            no: 0,
            revision: 1,
            own: own(json!({"name": "Line", "kind": "modbus"})),
        };
        plant.put(connection.kind, connection.id, 0, 1, connection.own).unwrap();
        let mut bind = |n: u128, address: &str| {
            let mut set = plant.tags[&id(n)].own.clone();
            set.extend(own(json!({"connection": id(50), "point": {"address": address}})));
            let no = plant.tags[&id(n)].no;
            plant.put(Kind::Tag, id(n), no, 2, set).unwrap();
        };
        bind(100, "1");
        bind(101, "1");
        bind(102, "2");
        plant.put(Kind::Rule, id(60), 0, 1, own(json!({"tag": id(101), "kind": "high", "level": 1.0}))).unwrap();
        plant.put(Kind::Place, id(5), 0, 1, own(json!({"name": "EX-2", "parent": id(2), "in_service": false}))).unwrap();
        let chosen = |query| names(&plant, query).concat();
        let q = TagQuery::default;
        assert_eq!(chosen(TagQuery { bound: Some(true), ..q() }), "abc");
        assert_eq!(chosen(TagQuery { bound: Some(false), ..q() }), "d");
        assert_eq!(chosen(TagQuery { twice: Some(true), ..q() }), "ab");
        assert_eq!(chosen(TagQuery { alarmed: Some(true), ..q() }), "b");
        assert_eq!(chosen(TagQuery { in_service: Some(false), ..q() }), "d");
        assert_eq!(chosen(TagQuery { recorded: Some(true), ..q() }), "ac");
        assert_eq!(chosen(TagQuery { quality: Some(Class::Bad), bound: Some(true), ..q() }), "b");
        assert_eq!(chosen(TagQuery { in_alarm: Some(true), ..q() }), "c");
        assert_eq!(chosen(TagQuery { in_alarm: Some(false), ..q() }), "dab");
        assert_eq!(chosen(TagQuery { by_hand: Some(true), ..q() }), "a");
        assert_eq!(chosen(TagQuery { by_hand: Some(false), quality: Some(Class::Good), ..q() }), "c");
        assert_eq!(chosen(TagQuery { proof: Some(Proof::Never), ..q() }), "abc");
        assert_eq!(chosen(TagQuery { proof: Some(Proof::Proven), ..q() }), "");
        assert_eq!(chosen(TagQuery { answered: Some(false), ..q() }), "b");
        assert_eq!(chosen(TagQuery { answered: Some(true), ..q() }), "ac");
        let by_address = TagSort::from_name("address").unwrap();
        assert_eq!(chosen(TagQuery { sort: by_address, down: true, ..q() }), "cabd");
    }

    proptest! {
        /// Whatever the query: the rows are exactly those that a plain look at every tag gives, in an order that the column
        /// agrees with, and asking by index gives the same rows as asking for all.
        #[test]
        fn a_view_agrees_with_a_plain_look(
            tags in prop::collection::vec((2u128..6, "[a-c]{1,2}[0-9]{0,2}", "[%C]{0,1}", 0.0..3.0f64), 0..40),
            word in "[a-c0-9]{0,2}", sort in 0usize..6, down: bool, from in 0usize..50, count in 0usize..50,
        ) {
            let rows: Vec<(u128, &str, &str, f64)> = tags.iter().map(|(p, n, u, o)| (*p, n.as_str(), u.as_str(), *o)).collect();
            let plant = plant(&rows);
            let sorts = [TagSort::Plant, TagSort::Name, TagSort::Place, TagSort::Unit, TagSort::Source, TagSort::Recorded];
            let query = TagQuery { words: word.clone(), sort: sorts[sort], down, ..TagQuery::default() };
            let view = TagView::of(&plant, query, &now(&plant));
            let mut seen: Vec<Uuid> = view.rows(0, usize::MAX).to_vec();
            let names: Vec<&str> = seen.iter().map(|id| plant.tags[id].set.name.as_str()).collect();
            if sorts[sort] == TagSort::Name {
                let wanted = if down { Ordering::Less } else { Ordering::Greater };
                prop_assert!(names.windows(2).all(|n| natural(n[0], n[1]) != wanted));
            }
            prop_assert_eq!(view.rows(from, count), &seen[from.min(seen.len())..(from + count).min(seen.len())]);
            let mut wanted: Vec<Uuid> = plant.tags.values()
                .filter(|t| plant.path(Some(t.set.place)).to_lowercase().contains(&word) || t.set.name.contains(&word))
                .map(|t| t.id).collect();
            wanted.sort();
            seen.sort();
            prop_assert_eq!(seen, wanted);
        }
    }
}
