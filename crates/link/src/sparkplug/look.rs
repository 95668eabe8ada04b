//! Edge nodes, their devices and metrics as a tree of nodes, and as a list.
//!
//! ```text
//! node = JSON list of group, edge node, device, a list of the parts of a metric's name, and a part of its value; what does not
//!        apply is empty: ["Works","ES-1","Pump 1",["Motor","Speed"],""]
//! ```

use super::{
    entity::{Entity, Known, State},
    host::{EdgeNode, Host},
    settings::point,
};
use crate::{Children, LinkError, Node, Reading, announced::Announced, now, pointer::Pointer};
use havrel_core::{
    plant::{Own, view::natural},
    quality::Class,
    time::{Nanos, SECOND},
};
use havrel_sparkplug::{
    metric::{About, is_of_protocol},
    payload::{Metric, MetricValue, type_name},
    topic::Name,
};
use serde_json::json;
use std::collections::HashMap;

/// Most nodes of a page.
const MOST: usize = 1000;
/// Longest text of a value that is shown, in characters.
const MOST_SHOWN: usize = 120;
/// Longest id of a node, in bytes.
const LONGEST: usize = 4000;

/// Where a node lies.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct At {
    name: Name,
    /// Of a metric's name what lies between “/”.
    path: Vec<String>,
    /// A member of the structure that it carries.
    part: Pointer,
}

impl At {
    /// Reads the id of a node.
    ///
    /// # Errors
    /// When it is none.
    pub fn of(id: &str) -> Result<At, LinkError> {
        if id.is_empty() {
            return Ok(At::default());
        }
        let read = (id.len() <= LONGEST).then(|| serde_json::from_str::<(String, String, String, Vec<String>, String)>(id).ok());
        let (group, node, device, path, part) =
            read.flatten().ok_or_else(|| LinkError::BadRequest("There is no such node.".into()))?;
        let part = Pointer::parse(&part).map_err(|words| LinkError::BadRequest(words.into()))?;
        Ok(At { name: Name { group, node, device }, path, part })
    }

    pub fn id(&self) -> String {
        json!([self.name.group, self.name.node, self.name.device, self.path, self.part.show()]).to_string()
    }

    fn named(name: Name) -> At {
        At { name, ..At::default() }
    }
}

/// Something right below a node, made into one only where it is shown.
struct Entry<'a> {
    name: String,
    at: At,
    what: Below<'a>,
}

enum Below<'a> {
    /// A group, an edge node or a device: what it is, and how it stands.
    Branch(&'static str, String),
    /// A part of the names of metrics, and the metric of that name.
    Metric { known: Option<&'a Known>, branch: bool },
    /// A member of the structure that a metric carries.
    Member(&'a Known, &'a Metric),
}

/// A page of what lies below a node.
pub(super) fn page(host: &Host, at: &At, cursor: &str, most: usize) -> Result<Children, LinkError> {
    let first: usize = match cursor {
        "" => 0,
        text => text.parse().map_err(|_| LinkError::BadRequest("Take the cursor from “next” of the page before.".into()))?,
    };
    let mut entries = below(host, at);
    entries.sort_by(|a, b| natural(&a.name, &b.name));
    let all = entries.len();
    let most = most.clamp(1, MOST);
    let nodes: Vec<Node> = entries.into_iter().skip(first).take(most).map(Entry::node).collect();
    let end = first.saturating_add(most);
    Ok(Children { read_at: now(), parts: Vec::new(), nodes, next: (end < all).then(|| end.to_string()) })
}

impl Entry<'_> {
    fn node(self) -> Node {
        let id = self.at.id();
        match self.what {
            Below::Branch(about, description) => {
                Node { id, name: self.name, branch: true, about: about.to_owned(), description, ..Node::default() }
            }
            Below::Metric { known: None, branch } => Node { id, name: self.name, branch, ..Node::default() },
            Below::Metric { known: Some(known), branch } => {
                let node = of_metric(&self.at, &self.name, known);
                Node { branch: branch || node.branch, ..node }
            }
            Below::Member(known, member) => of_member(&self.at, &self.name, known, member),
        }
    }
}

fn below<'a>(host: &'a Host, at: &At) -> Vec<Entry<'a>> {
    let branch = |name: Name, shown: &str, about: &'static str, description: String| Entry {
        name: shown.to_owned(),
        at: At::named(name),
        what: Below::Branch(about, description),
    };
    if at.name.node.is_empty() {
        let nodes = host.nodes.iter().filter(|((group, _), _)| at.name.group.is_empty() || *group == at.name.group);
        if !at.name.group.is_empty() {
            let edge = |((group, node), edge): (&(String, String), &EdgeNode)| {
                branch(Name::new(group, node, ""), node, "edge node", standing(&edge.own))
            };
            return nodes.map(edge).collect();
        }
        let mut groups: Vec<&String> = nodes.map(|((group, _), _)| group).collect();
        groups.dedup();
        return groups.into_iter().map(|group| branch(Name::new(group, "", ""), group, "group", String::new())).collect();
    }
    let Some(entity) = host.find(&at.name) else { return Vec::new() };
    let mut entries = Vec::new();
    if at.name.device.is_empty()
        && at.path.is_empty()
        && let Some(edge) = host.nodes.get(&(at.name.group.clone(), at.name.node.clone()))
    {
        let device = |(device, entity): (&String, &Entity)| {
            branch(Name { device: device.clone(), ..at.name.clone() }, device, "device", standing(entity))
        };
        entries.extend(edge.devices.iter().map(device));
    }
    entries.extend(metrics(entity, at));
    entries
}

/// How an edge node or a device stands, in words.
fn standing(entity: &Entity) -> String {
    match entity.state {
        State::Online => "online".to_owned(),
        State::Offline => "offline".to_owned(),
        State::Waiting => "its birth has not come yet".to_owned(),
    }
}

/// Metrics right below a part of their names, or the members of the structure that one carries.
fn metrics<'a>(entity: &'a Entity, at: &At) -> Vec<Entry<'a>> {
    let mut entries: Vec<Entry> = Vec::new();
    let mut places: HashMap<&str, usize> = HashMap::new();
    let whole = at.path.join("/");
    if let Some(known) = entity.metric(&whole)
        && let Some((metric, _)) = &known.last
    {
        let inside =
            at.part.steps().iter().try_fold(metric, |metric, step| {
                metric.instance()?.metrics.iter().find(|member| member.name.as_ref() == Some(step))
            });
        for member in inside.and_then(Metric::instance).map_or(&[][..], |instance| &instance.metrics) {
            let Some(name) = member.name.as_deref().filter(|name| !name.is_empty()) else { continue };
            let at = At { part: at.part.with(name), ..at.clone() };
            entries.push(Entry { name: name.to_owned(), at, what: Below::Member(known, member) });
        }
    }
    if !at.part.is_whole() {
        return entries;
    }
    for known in &entity.metrics {
        let mut steps = known.name.split('/');
        if !at.path.iter().all(|above| steps.next() == Some(above)) {
            continue;
        }
        let Some(step) = steps.next() else { continue };
        let index = *places.entry(step).or_insert_with(|| {
            let at = At { path: at.path.iter().cloned().chain([step.to_owned()]).collect(), ..at.clone() };
            let name = if step.is_empty() { "(empty)" } else { step };
            entries.push(Entry { name: name.to_owned(), at, what: Below::Metric { known: None, branch: false } });
            entries.len() - 1
        });
        let deeper = steps.next().is_some();
        if let Below::Metric { known: of_name, branch } = &mut entries[index].what {
            if deeper {
                *branch = true;
            } else {
                *of_name = Some(known);
            }
        }
    }
    entries
}

fn of_metric(at: &At, name: &str, known: &Known) -> Node {
    let mut node = match &known.last {
        Some((metric, time)) => of_value(at, name, known, metric, known.datatype, Some(*time)),
        None => {
            let refused = "It told no value yet, or one that is too large to be shown.".to_owned();
            Node { refused, ..of_value(at, name, known, &Metric::default(), known.datatype, None) }
        }
    };
    tell_about(&mut node, &known.about);
    node
}

/// Says of a node what its birth told beside its value.
fn tell_about(node: &mut Node, about: &About) {
    let mut put = |key: &str, value: serde_json::Value| drop(node.set.insert(key.to_owned(), value));
    if !about.unit.is_empty() {
        put("unit", json!(about.unit));
    }
    if let Some((low, high)) = about.range() {
        put("range_low", json!(low));
        put("range_high", json!(high));
    }
    node.writable = about.writable == Some(true);
    if !about.description.is_empty() {
        node.description = about.description.clone();
    }
}

fn of_member(at: &At, name: &str, known: &Known, member: &Metric) -> Node {
    let time = known.last.as_ref().map(|(_, time)| *time);
    let mut node = of_value(at, name, known, member, member.type_of(None), time);
    tell_about(&mut node, &About::of(member));
    node
}

/// A value, or the instance of a structure, which is a branch.
fn of_value(at: &At, name: &str, known: &Known, metric: &Metric, datatype: u32, time: Option<Nanos>) -> Node {
    let mut node = Node { id: at.id(), name: name.to_owned(), about: type_name(datatype).to_owned(), ..Node::default() };
    if let Some(instance) = metric.instance() {
        node.branch = true;
        node.of_type = instance.reference.clone().unwrap_or_default();
        node.about = if node.of_type.is_empty() { "structure".into() } else { node.of_type.clone() };
        return node;
    }
    node.point = (!is_of_protocol(&known.name)).then(|| point(&at.name, &known.name, &at.part));
    node.description = time.map_or_else(String::new, |time| format!("told {} s ago", (now() - time).max(0) / SECOND));
    if metric.value.is_none() && metric.is_null != Some(true) {
        return node;
    }
    let text = match metric.read(Some(datatype)) {
        Ok(value) => value.text(),
        Err(reason) => reason.words().to_owned(),
    };
    let doubt = metric.quality();
    let text: String =
        text.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).take(MOST_SHOWN).collect();
    let text = if doubt.class() == Class::Good { text } else { format!("{text} ({})", doubt.reason().words()) };
    node.readings = vec![Reading { point: Own::new(), text }];
    if matches!(metric.value, Some(MetricValue::DataSet(_))) {
        node.about = "DataSet, as a table in JSON".into();
    }
    node
}

/// All that announced itself, edge nodes before their devices.
pub(super) fn list(host: &Host, buffer: &str, at: Nanos) -> Vec<Announced> {
    let mut all = Vec::new();
    let mut nodes: Vec<_> = host.nodes.iter().collect();
    nodes.sort_by(|((a, x), _), ((b, y), _)| natural(a, b).then_with(|| natural(x, y)));
    for ((group, node), edge) in nodes {
        let one = |device: &str, entity: &Entity| {
            let name = Name::new(group, node, device);
            let (metrics, taken) = entity.counts();
            let mut words = Vec::new();
            if !entity.changed.is_empty() {
                words.push(format!("The last birth tells another type of {}.", entity.changed.join(", ")));
            }
            Announced {
                id: At::named(name).id(),
                group: group.clone(),
                node: node.clone(),
                device: device.to_owned(),
                state: entity.state,
                since: entity.since,
                heard: edge.heard,
                births: entity.births,
                metrics,
                taken,
                history: entity.history,
                words,
                ..Announced::default()
            }
        };
        let mut own = one("", &edge.own);
        (own.missing, own.asked) = (edge.missing, edge.asked);
        own.buffer = level(&edge.own, buffer);
        if edge.twins(at) {
            own.words.push(
                "Two edge nodes seem to have this group and name: their births take turns. Give one of them another name.".into(),
            );
        }
        if edge.unread > 0 {
            own.words.push(format!("{} messages or values came without a birth that explains them.", edge.unread));
        }
        all.push(own);
        all.extend(edge.devices.iter().map(|(device, entity)| one(device, entity)));
    }
    all
}

/// How full an edge node says that its buffer is.
fn level(own: &Entity, metric: &str) -> String {
    let Some(known) = own.metric(metric).filter(|_| own.state == State::Online) else { return String::new() };
    let Some((last, _)) = &known.last else { return String::new() };
    let text = last.read(Some(known.datatype)).map_or_else(|reason| reason.words().to_owned(), |value| value.text());
    format!("{text} {}", known.about.unit).trim().chars().take(MOST_SHOWN).collect()
}
