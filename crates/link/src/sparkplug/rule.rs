//! Mappings of edge nodes and devices: every metric that the birth of one announces becomes a tag. Without a socket.

use super::{entity::Entity, host::Host, settings::point};
use crate::{
    kind::Wrong,
    mqtt::settings::{check_filter, fits},
    pointer::Pointer,
};
use havrel_core::{
    arrival::{Arrival, LONGEST_KEY, Mapping, NewTag, Template},
    plant::{Own, table::clean_path},
};
use havrel_sparkplug::{
    metric::{About, is_of_protocol},
    payload::Metric,
    topic::Name,
};
use serde_json::json;
use std::collections::BTreeSet;
use uuid::Uuid;

/// Mappings of a connection, filters of metrics of one, and tags of one device.
const MOST_MAPPINGS: usize = 50;
const MOST_FILTERS: usize = 200;
const MOST_TAGS: usize = 20_000;
/// Group, edge node and device: what a place can name.
const LEVELS: usize = 3;
/// Deepest structure within a structure.
const DEEPEST: usize = 5;

/// A mapping that can be used.
#[derive(Clone, Debug)]
pub(super) struct Rule {
    pub id: Uuid,
    who: String,
    place: Template,
    /// Which metrics; all where there are none.
    metrics: Vec<String>,
    set: Own,
}

/// What is wrong with the mappings of a connection, by field.
pub(super) fn check(mappings: &[Mapping]) -> Vec<Wrong> {
    let mut wrong: Vec<Wrong> = Vec::new();
    if mappings.len() > MOST_MAPPINGS {
        wrong.push(("mappings".into(), format!("A connection has at most {MOST_MAPPINGS} mappings.")));
    }
    for (index, mapping) in mappings.iter().enumerate().take(MOST_MAPPINGS) {
        let at = |(field, words): Wrong| (format!("mappings[{index}].{field}"), words);
        wrong.extend(Rule::of(mapping).err().unwrap_or_default().into_iter().map(at));
        if mappings[..index].iter().any(|m| m.id == mapping.id) {
            wrong.push(at(("id".into(), "Another mapping has this id.".into())));
        }
        if let Some(other) = mappings[..index].iter().find(|m| m.topics.trim() == mapping.topics.trim()) {
            wrong.push(at(("topics".into(), format!("Another mapping has {} already.", other.topics.trim()))));
        }
    }
    wrong
}

impl Rule {
    /// # Errors
    /// What is wrong with the mapping, by field.
    pub fn of(mapping: &Mapping) -> Result<Rule, Vec<Wrong>> {
        let mut wrong: Vec<Wrong> = Vec::new();
        let who = mapping.topics.trim();
        let levels = who.split('/').count();
        if check_filter(who).is_err() || who.is_empty() || levels > LEVELS + usize::from(who.ends_with('#')) {
            let words = "Enter group, edge node and device such as Works/+/Pump 1; + stands for any one, # at the end for all that follow.";
            wrong.push(("topics".into(), words.into()));
        }
        let place = match Template::parse(&mapping.place) {
            Ok(place) if place.highest() <= LEVELS => Some(place),
            Ok(place) => {
                let words =
                    format!("{{1}} is the group, {{2}} the edge node, {{3}} the device; there is no {{{}}}.", place.highest());
                wrong.push(("place".into(), words));
                None
            }
            Err(words) => {
                wrong.push(("place".into(), words));
                None
            }
        };
        if mapping.tags.len() > MOST_FILTERS {
            wrong.push(("tags".into(), format!("A mapping names at most {MOST_FILTERS} metrics.")));
        }
        let mut metrics = Vec::new();
        for (index, tag) in mapping.tags.iter().enumerate().take(MOST_FILTERS) {
            match tag.point.get("metric").and_then(|metric| metric.as_str()).map(str::trim) {
                Some(metric) if check_filter(metric).is_ok() && !metric.is_empty() => metrics.push(metric.to_owned()),
                _ => {
                    let words = "Enter names of metrics such as Inlet/pH or Pump/#.";
                    wrong.push((format!("tags[{index}].point.metric"), words.into()));
                }
            }
        }
        match place {
            Some(place) if wrong.is_empty() => {
                let set = json!({"record": mapping.record}).as_object().cloned().unwrap_or_default();
                Ok(Rule { id: mapping.id, who: who.to_owned(), place, metrics, set })
            }
            _ => Err(wrong),
        }
    }

    /// Whether it concerns an edge node or device.
    pub fn concerns(&self, name: &Name) -> bool {
        fits(&name.show(), &self.who)
    }

    /// What a tag begins with beside its name.
    fn settings(&self, about: &About) -> Own {
        let mut set = self.set.clone();
        if !about.unit.is_empty() {
            set.insert("unit".into(), about.unit.as_str().into());
        }
        if let Some((low, high)) = about.range() {
            set.insert("range_low".into(), json!(low));
            set.insert("range_high".into(), json!(high));
        }
        if !about.description.is_empty() {
            set.insert("note".into(), about.description.as_str().into());
        }
        set
    }

    /// The tags for what an edge node or device announces.
    pub fn arrival(&self, name: &Name, entity: &Entity) -> Arrival {
        let mut arrival = Arrival { mapping: self.id, key: name.show(), ..Arrival::default() };
        let place = clean_path(&self.place.fill_known(&[&name.group, &name.node, &name.device]));
        if place.is_empty() {
            arrival.refused = "The place is empty; name one for edge nodes too, which have no device.".into();
        }
        if arrival.key.len() > LONGEST_KEY {
            arrival.key = arrival.key.chars().take(LONGEST_KEY / 4).collect();
            arrival.refused = "Its name is too long.".into();
        }
        for known in &entity.metrics {
            if is_of_protocol(&known.name)
                || !(self.metrics.is_empty() || self.metrics.iter().any(|filter| fits(&known.name, filter)))
            {
                continue;
            }
            let mut add = |part: &Pointer, path: &str, about: &About| {
                let full = format!("{place}/{path}");
                let (place, name_of_tag) = full.rsplit_once('/').unwrap_or((&full, ""));
                arrival.tags.push(NewTag {
                    place: clean_path(place),
                    name: name_of_tag.trim().to_owned(),
                    point: point(name, &known.name, part),
                    set: self.settings(about),
                });
            };
            match known.last.as_ref().and_then(|(metric, _)| metric.instance()) {
                Some(instance) => members(&instance.metrics, &Pointer::default(), &known.name, &mut add),
                None => add(&Pointer::default(), &known.name, &known.about),
            }
        }
        if arrival.refused.is_empty() && arrival.tags.is_empty() {
            arrival.refused = "It announces none of these metrics.".into();
        }
        if arrival.tags.len() > MOST_TAGS {
            arrival.refused = format!("It announces more metrics than a mapping takes at once ({MOST_TAGS}).");
        }
        if !arrival.refused.is_empty() {
            arrival.tags.clear();
        }
        arrival
    }
}

/// The members of a structure, those of structures within it too.
fn members(metrics: &[Metric], above: &Pointer, path: &str, add: &mut dyn FnMut(&Pointer, &str, &About)) {
    for member in metrics {
        let Some(name) = member.name.as_deref().filter(|name| !name.is_empty()) else { continue };
        let (part, path) = (above.with(name), format!("{path}/{name}"));
        match member.instance() {
            Some(inner) if part.steps().len() < DEEPEST => members(&inner.metrics, &part, &path, add),
            _ => add(&part, &path, &About::of(member)),
        }
    }
}

/// All mappings of a connection that runs, and what is still to be announced.
#[derive(Default)]
pub(super) struct Rules {
    all: Vec<Rule>,
    waiting: BTreeSet<Name>,
}

impl Rules {
    pub fn of(mappings: &[Mapping], host: &Host) -> Rules {
        let all = mappings.iter().filter_map(|mapping| Rule::of(mapping).ok()).collect();
        let mut rules = Rules { all, waiting: BTreeSet::new() };
        rules.born(host.names());
        rules
    }

    /// Takes note of what was born.
    pub fn born(&mut self, names: impl IntoIterator<Item = Name>) {
        for name in names {
            if self.all.iter().any(|rule| rule.concerns(&name)) {
                self.waiting.insert(name);
            }
        }
    }

    /// Announces what waits, while there is room for it. The first mapping that concerns one counts.
    pub fn announce(&mut self, host: &Host, announce: &mut dyn FnMut(Arrival) -> bool) {
        while let Some(name) = self.waiting.first() {
            let rule = self.all.iter().find(|rule| rule.concerns(name));
            if let (Some(rule), Some(entity)) = (rule, host.find(name))
                && entity.births > 0
                && !announce(rule.arrival(name, entity))
            {
                return;
            }
            self.waiting.pop_first();
        }
    }
}
