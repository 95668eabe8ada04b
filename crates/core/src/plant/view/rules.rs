//! Alarm rules as a sheet shows them.

use super::{Key, Place, natural, places};
use crate::{
    TagNo,
    alarm::{LimitKind, RuleKind},
    engine::Current,
    plant::{
        Guide, Item, Kind, Plant, Rule, Tag,
        table::{Reader, column_of},
    },
    quality::Reason,
};
use serde::{Deserialize, Serialize};
use std::{
    cmp::Ordering,
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// Which alarm rules, and in which order.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RuleQuery {
    /// Only on tags under this place, at any depth.
    pub under: Option<Uuid>,
    pub kind: Option<RuleKind>,
    pub priority: Option<u8>,
    pub enabled: Option<bool>,
    /// An equipment class says it.
    pub of_class: Option<bool>,
    /// A review finds this.
    pub finding: Option<Finding>,
    /// Only these, which history tells.
    pub only: Option<Arc<HashSet<Uuid>>>,
    /// It could not work when the view was made.
    pub faulty: Option<bool>,
    /// Which moment is meant where the view depends on values; another number is another view.
    pub moment: u64,
    /// Words that must all occur in the path of its tag or in what it is known by, whatever their case.
    pub words: String,
    /// By a column of the table of rules; none: as places and tags stand in the plant.
    pub sort: Option<&'static str>,
    /// The other way round.
    pub down: bool,
}

/// What a review of rules finds (ISA-18.2-2016, clause 9: rationalization).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Finding {
    /// Operators are told of its alarm, and its priority is not argued for.
    NotArgued,
    /// It has another priority than the site's guide gives.
    Overruled,
    /// It is on, and nobody has checked it as it is.
    Unchecked,
    /// It does not say what to do.
    Unguided,
    /// Another rule of its tag that is on looks for the same.
    Duplicate,
    /// It lies outside the range of its tag, so that it can hardly be passed.
    OutsideRange,
    /// A lower limit of the tag does not lie below it, or a higher one above.
    WrongOrder,
}

impl Finding {
    pub const ALL: [Finding; 7] = [
        Finding::NotArgued,
        Finding::Overruled,
        Finding::Unchecked,
        Finding::Unguided,
        Finding::Duplicate,
        Finding::OutsideRange,
        Finding::WrongOrder,
    ];
}

/// What finding something needs to know of the whole plant.
struct Finder {
    guide: Guide,
    limits: HashMap<Uuid, Vec<Limit>>,
    /// How many rules that are on look for the same.
    alike: HashMap<String, usize>,
}

impl Finder {
    fn of(plant: &Plant, finding: Finding) -> Finder {
        let mut alike = HashMap::new();
        if finding == Finding::Duplicate {
            for rule in plant.rules.values().filter(|rule| rule.set.enabled) {
                *alike.entry(looks_for(&rule.set)).or_default() += 1;
            }
        }
        let limits = if finding == Finding::WrongOrder { limits_of(plant) } else { HashMap::new() };
        Finder { guide: plant.guide(), limits, alike }
    }

    fn finds(&self, finding: Finding, rule: &Rule, tag: &Item<Tag>) -> bool {
        match finding {
            Finding::NotArgued => rule.enabled && rule.is_told() && rule.argued(&self.guide).is_none(),
            Finding::Overruled => rule.enabled && rule.is_overruled(&self.guide),
            Finding::Unchecked => rule.enabled && !rule.is_checked(),
            Finding::Unguided => rule.enabled && rule.is_told() && rule.action.trim().is_empty(),
            Finding::Duplicate => rule.enabled && self.alike.get(&looks_for(rule)).is_some_and(|count| *count > 1),
            Finding::OutsideRange => lies_outside(rule, &tag.set),
            Finding::WrongOrder => {
                rule.enabled && rule.fixed_limit().zip(self.limits.get(&tag.id)).is_some_and(|(own, all)| is_misplaced(own, all))
            }
        }
    }
}

/// What a rule looks for, without delays and without what comes of it.
fn looks_for(rule: &Rule) -> String {
    let Rule { tag, kind, level, level_formula, setpoint, side, window_s, per, states, when, .. } = rule;
    let formulas = [level_formula, setpoint, when].map(|formula| formula.as_ref().map(|formula| formula.text()));
    format!("{tag} {kind:?} {level:?} {side:?} {window_s} {per:?} {states:?} {formulas:?}")
}

/// The answer to a query over one revision of the plant.
pub struct RuleView {
    pub revision: i64,
    pub query: RuleQuery,
    rules: Vec<Uuid>,
}

/// What is known of a tag's value.
pub type ValueOf<'a> = &'a dyn Fn(TagNo) -> Option<&'a Current>;

struct Row<'a> {
    rule: &'a Item<Rule>,
    place: &'a Place,
    /// Name and order of its tag.
    name: &'a str,
    order: f64,
}

impl RuleView {
    /// Filters and sorts.
    pub fn of(plant: &Plant, query: RuleQuery, value: ValueOf<'_>) -> RuleView {
        let places = places(plant, query.under);
        let words = query.words.to_lowercase();
        let words: Vec<&str> = words.split([' ', '/']).filter(|w| !w.is_empty()).take(12).collect();
        let idle = plant.idle_places();
        let finder = query.finding.map(|finding| (finding, Finder::of(plant, finding)));
        let mut rows: Vec<Row<'_>> = Vec::new();
        for rule in plant.rules.values() {
            let Some(tag) = plant.tags.get(&rule.set.tag) else { continue };
            let Some(place) = places.get(&tag.set.place) else { continue };
            let set = &rule.set;
            let asked = [(query.enabled, set.enabled), (query.of_class, set.class_rule.is_some())];
            if query.kind.is_some_and(|kind| kind != set.kind)
                || query.priority.is_some_and(|priority| priority != set.priority)
                || asked.iter().any(|(asked, holds)| asked.is_some_and(|asked| asked != *holds))
            {
                continue;
            }
            if !words.is_empty() {
                let (name, known) = (tag.set.name.to_lowercase(), set.known_as().to_lowercase());
                if !words.iter().all(|w| place.path.contains(w) || name.contains(w) || known.contains(w)) {
                    continue;
                }
            }
            if finder.as_ref().is_some_and(|(finding, finder)| !finder.finds(*finding, set, tag))
                || query.only.as_ref().is_some_and(|only| !only.contains(&rule.id))
            {
                continue;
            }
            if query.faulty.is_some_and(|asked| asked != plant.rule_fault(rule, &idle, value).is_some()) {
                continue;
            }
            rows.push(Row { rule, place, name: &tag.set.name, order: tag.set.order });
        }
        let by_plant = |a: &Row<'_>, b: &Row<'_>| {
            (a.place.rank.cmp(&b.place.rank))
                .then(a.order.total_cmp(&b.order))
                .then_with(|| natural(a.name, b.name))
                .then_with(|| downwards(&a.rule.set).total_cmp(&downwards(&b.rule.set)))
                .then_with(|| a.rule.set.known_as().cmp(b.rule.set.known_as()))
                .then(a.rule.id.cmp(&b.rule.id))
        };
        match query.sort.and_then(|key| column_of(Kind::Rule, key)) {
            None => rows.sort_by(by_plant),
            Some(column) => {
                let reader = Reader::of(plant, |_| false);
                let keys: HashMap<Uuid, Key> =
                    rows.iter().map(|row| (row.rule.id, Key::of(&reader, column, Kind::Rule, row.rule.id))).collect();
                rows.sort_by(|a, b| keys[&a.rule.id].compare(&keys[&b.rule.id]).then_with(|| by_plant(a, b)));
            }
        }
        if query.down {
            rows.reverse();
        }
        let rules = rows.iter().map(|row| row.rule.id).collect();
        RuleView { revision: plant.revision, query, rules }
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rules.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }

    /// The rows from an index on, as many as there are.
    pub fn rows(&self, from: usize, count: usize) -> &[Uuid] {
        let from = from.min(self.rules.len());
        &self.rules[from..from.saturating_add(count).min(self.rules.len())]
    }
}

/// A limit and its level.
type Limit = (LimitKind, f64);

/// The limits of each tag that are on and whose levels stand fast.
fn limits_of(plant: &Plant) -> HashMap<Uuid, Vec<Limit>> {
    let mut all: HashMap<Uuid, Vec<Limit>> = HashMap::new();
    for rule in plant.rules.values().filter(|rule| rule.set.enabled) {
        if let Some(limit) = rule.set.fixed_limit() {
            all.entry(rule.set.tag).or_default().push(limit);
        }
    }
    all
}

fn lies_outside(rule: &Rule, tag: &Tag) -> bool {
    rule.fixed_limit()
        .is_some_and(|(_, level)| tag.range_low.is_some_and(|low| level < low) || tag.range_high.is_some_and(|high| level > high))
}

/// Whether a limit of a lower kind does not lie below this one, or one of a higher kind above it.
fn is_misplaced((kind, level): Limit, all: &[Limit]) -> bool {
    let rank = |kind: LimitKind| LimitKind::ALL.iter().position(|one| *one == kind);
    all.iter().any(|(other, at)| match rank(*other).cmp(&rank(kind)) {
        Ordering::Less => *at >= level,
        Ordering::Greater => *at <= level,
        Ordering::Equal => false,
    })
}

/// Sorts the limits of a tag from the highest to the lowest, and the other rules behind them.
fn downwards(rule: &Rule) -> f64 {
    rule.fixed_limit().map_or(f64::INFINITY, |(_, level)| -level)
}

impl Plant {
    /// Why an alarm rule that is on cannot work at present, as a sentence; none where it can. `idle` are the places out of service.
    pub fn rule_fault(&self, rule: &Item<Rule>, idle: &HashSet<Uuid>, value: ValueOf<'_>) -> Option<String> {
        let tag = self.tags.get(&rule.set.tag)?;
        if !rule.set.enabled {
            return None;
        }
        if idle.contains(&tag.set.place) {
            return Some("Its place is out of service.".into());
        }
        if tag.set.connection.is_none() && tag.set.formula.is_none() {
            return Some("Its tag has no source.".into());
        }
        let judges_quality = rule.set.kind == RuleKind::BadQuality;
        let own = (!judges_quality && rule.set.kind != RuleKind::Expression).then_some(rule.set.tag);
        for read in own.into_iter().chain(self.rule_reads(&rule.set)) {
            let Some(read) = self.tags.get(&read) else { continue };
            let whose = if read.id == tag.id { "Its tag".to_owned() } else { format!("“{}”", self.tag_path(&read.set)) };
            let current = value(read.no);
            if current.is_none_or(|current| current.value.is_none()) {
                return Some(format!("{whose} never had a value."));
            }
            if let Some(current) =
                current.filter(|current| current.quality.is_bad() && current.quality.reason() != Reason::NotRead)
            {
                return Some(format!("{whose} has no good value: {}.", current.quality.reason().words()));
            }
            if rule.set.uncertain == crate::plant::Uncertain::Bad && current.is_some_and(|current| current.quality.is_uncertain())
            {
                return Some(format!("{whose} is uncertain, which this rule takes for bad."));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        plant::{Own, Stored},
        quality::Quality,
        sample::Value,
    };
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    const fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn plant() -> Plant {
        let own = |set: Json| -> Own { set.as_object().cloned().unwrap_or_default() };
        let item = |kind, n, no, set: Json| Stored { kind, id: id(n), no, revision: 1, own: own(set) };
        let (plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, 0, json!({"name": "EX-2"})),
                item(Kind::Place, 2, 0, json!({"name": "EX-10"})),
                item(Kind::Place, 3, 0, json!({"name": "Old", "in_service": false})),
                item(Kind::Connection, 9, 0, json!({"name": "Plain", "kind": "memory"})),
                item(Kind::Tag, 10, 1, json!({"place": id(1), "name": "Level", "connection": id(9), "range_high": 75})),
                item(Kind::Tag, 11, 2, json!({"place": id(2), "name": "Level", "connection": id(9)})),
                item(Kind::Tag, 12, 3, json!({"place": id(2), "name": "Loose"})),
                item(Kind::Tag, 13, 4, json!({"place": id(3), "name": "Gone", "connection": id(9)})),
                item(Kind::Rule, 20, 0, json!({"tag": id(10), "kind": "high", "level": 80, "action": "Stop the pump"})),
                item(Kind::Rule, 21, 0, json!({"tag": id(10), "kind": "low", "level": 9, "priority": 3})),
                item(Kind::Rule, 22, 0, json!({"tag": id(11), "kind": "high", "level": 70, "enabled": false})),
                item(Kind::Rule, 23, 0, json!({"tag": id(12), "kind": "bad_quality"})),
                item(Kind::Rule, 26, 0, json!({"tag": id(13), "kind": "low_low", "level": 3})),
                item(Kind::Rule, 27, 0, json!({"tag": id(13), "kind": "low", "level": 3, "name": "upper"})),
                item(Kind::Rule, 24, 0, json!({"tag": id(13), "kind": "high", "level": 1})),
                item(
                    Kind::Rule,
                    25,
                    0,
                    json!({"tag": id(11), "kind": "deviation", "level": 2, "setpoint": {"text": format!("at(\"{}\")", id(10))}}),
                ),
            ],
        );
        assert_eq!(broken, []);
        plant
    }

    fn rules(query: RuleQuery) -> Vec<u128> {
        let plant = plant();
        let known = Current { value: Some(Value::F64(5.0)), quality: Quality::GOOD, ..Current::UNREAD };
        let view = RuleView::of(&plant, query, &|no| (no != 2).then_some(&known));
        assert_eq!(view.len(), view.rows(0, 100).len());
        view.rows(0, 100).iter().map(|id| id.as_u128()).collect()
    }

    #[rstest]
    #[case::plant_order(RuleQuery::default(), &[20, 21, 22, 25, 23, 26, 27, 24])]
    #[case::under(RuleQuery { under: Some(id(2)), ..RuleQuery::default() }, &[22, 25, 23])]
    #[case::kind(RuleQuery { kind: Some(RuleKind::High), ..RuleQuery::default() }, &[20, 22, 24])]
    #[case::priority(RuleQuery { priority: Some(3), ..RuleQuery::default() }, &[21])]
    #[case::off(RuleQuery { enabled: Some(false), ..RuleQuery::default() }, &[22])]
    #[case::unguided(found(Finding::Unguided), &[21, 25, 23, 26, 27, 24])]
    #[case::outside_the_range(found(Finding::OutsideRange), &[20])]
    #[case::in_the_wrong_order(found(Finding::WrongOrder), &[26, 27, 24])]
    #[case::by_history(RuleQuery { only: Some(Arc::new([id(21), id(99)].into())), ..RuleQuery::default() }, &[21])]
    #[case::words(RuleQuery { words: "ex-10 devi".into(), ..RuleQuery::default() }, &[25])]
    #[case::faulty(RuleQuery { faulty: Some(true), ..RuleQuery::default() }, &[25, 23, 26, 27, 24])]
    #[case::by_level(RuleQuery { sort: Some("level"), ..RuleQuery::default() }, &[24, 25, 26, 27, 21, 22, 20, 23])]
    #[case::by_level_down(RuleQuery { sort: Some("level"), down: true, ..RuleQuery::default() }, &[23, 20, 22, 21, 27, 26, 25, 24])]
    fn rules_are_filtered_and_in_order(#[case] query: RuleQuery, #[case] expected: &[u128]) {
        assert_eq!(rules(query), expected);
    }

    fn found(finding: Finding) -> RuleQuery {
        RuleQuery { finding: Some(finding), ..RuleQuery::default() }
    }

    #[test]
    fn a_review_finds_what_is_not_argued_overruled_unchecked_or_there_twice() {
        let own = |set: Json| -> Own { set.as_object().cloned().unwrap_or_default() };
        let item = |kind, n, no, set: Json| Stored { kind, id: id(n), no, revision: 1, own: own(set) };
        let high = |name: &str, more: Json| {
            let mut set = json!({"tag": id(10), "kind": "high", "level": 5, "name": name});
            set.as_object_mut().unwrap().extend(own(more));
            set
        };
        let argued = json!({"consequences": {"equipment": 2}, "respond_min": 10});
        let overruled = json!({"consequences": {"equipment": 2}, "respond_min": 10, "priority": 4, "overruled": "no spare"});
        let (mut plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, 0, json!({"name": "EX-1"})),
                item(Kind::Tag, 10, 1, json!({"place": id(1), "name": "Level"})),
                item(Kind::Rule, 20, 0, high("", json!({"level": 6}))),
                item(Kind::Rule, 21, 0, high("argued", argued)),
                item(Kind::Rule, 22, 0, high("overruled", overruled)),
                item(Kind::Rule, 23, 0, high("off", json!({"enabled": false}))),
                item(Kind::Rule, 24, 0, high("recorded", json!({"priority": 0, "level": 7}))),
            ],
        );
        assert_eq!(broken, []);
        let rules = |plant: &Plant, finding| {
            let view = RuleView::of(plant, found(finding), &|_| None);
            let mut found: Vec<u128> = view.rows(0, 9).iter().map(|id| id.as_u128()).collect();
            found.sort_unstable();
            found
        };
        assert_eq!(rules(&plant, Finding::NotArgued), [20]);
        assert_eq!(rules(&plant, Finding::Overruled), [22]);
        assert_eq!(rules(&plant, Finding::Duplicate), [21, 22], "one that is off is no duplicate");
        assert_eq!(rules(&plant, Finding::Unchecked), [20, 21, 22, 24]);
        // Another guide gives another priority.
        plant.put(Kind::Guide, id(30), 0, 2, own(json!({"priorities": [[2, 1, 1], [4, 4, 1], [4, 4, 3]]}))).unwrap();
        assert_eq!(rules(&plant, Finding::Overruled), [21]);
    }

    #[rstest]
    #[case(20, None)]
    #[case(22, None)]
    #[case(23, Some("Its tag has no source."))]
    #[case(24, Some("Its place is out of service."))]
    #[case(25, Some("Its tag never had a value."))]
    fn a_rule_that_cannot_work_says_why(#[case] rule: u128, #[case] fault: Option<&str>) {
        let plant = plant();
        let known = Current { value: Some(Value::F64(5.0)), quality: Quality::GOOD, ..Current::UNREAD };
        let found = plant.rule_fault(&plant.rules[&id(rule)], &plant.idle_places(), &|no| (no != 2).then_some(&known));
        assert_eq!(found.as_deref(), fault);
    }
}
