//! What kinds of items there are. Everything that is particular to one of them stands in the file of its settings, behind one
//! trait; everything else treats them alike.

use super::{Item, Message, Own, Plant, Rule, SourceCheck, Table, Tag, check::Wrong, layers, read};
use crate::formula::Formula;
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::{Value as Json, json};
use std::{
    cell::OnceCell,
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// A kind of item.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A class of equipment.
    Class,
    /// When shifts begin and end, and which crew works which.
    #[serde(rename = "shift_pattern")]
    ShiftPattern,
    Place,
    Layout,
    /// A set of names for the states of a value.
    States,
    Connection,
    Tag,
    /// What alarms of one sort have in common.
    #[serde(rename = "alarm_class")]
    AlarmClass,
    Rule,
    Report,
    /// Values that leave through a connection.
    Publication,
    /// Which values go into history, and when.
    Recorder,
    /// When a report is made, and where it goes.
    Dispatch,
    /// The site's guide to priorities of alarms.
    Guide,
    /// Who is called for alarms that nobody acknowledges.
    #[serde(rename = "call_plan")]
    CallPlan,
}

/// Evaluates an expression in which a name stands for the type of a kind's settings. Besides [`Kind`] itself this is the only
/// list of the kinds.
macro_rules! of_kind {
    ($kind:expr, $settings:ident => $body:expr) => {{
        use $crate::plant::{
            AlarmClass, CallPlan, Class, Connection, Dispatch, Guide, Kind, Layout, Place, Publication, Recorder, Report, Rule,
            ShiftPattern, States, Tag,
        };
        match $kind {
            Kind::Class => {
                type $settings = Class;
                $body
            }
            Kind::ShiftPattern => {
                type $settings = ShiftPattern;
                $body
            }
            Kind::Place => {
                type $settings = Place;
                $body
            }
            Kind::Layout => {
                type $settings = Layout;
                $body
            }
            Kind::States => {
                type $settings = States;
                $body
            }
            Kind::Connection => {
                type $settings = Connection;
                $body
            }
            Kind::Tag => {
                type $settings = Tag;
                $body
            }
            Kind::AlarmClass => {
                type $settings = AlarmClass;
                $body
            }
            Kind::Rule => {
                type $settings = Rule;
                $body
            }
            Kind::Report => {
                type $settings = Report;
                $body
            }
            Kind::Publication => {
                type $settings = Publication;
                $body
            }
            Kind::Recorder => {
                type $settings = Recorder;
                $body
            }
            Kind::Dispatch => {
                type $settings = Dispatch;
                $body
            }
            Kind::Guide => {
                type $settings = Guide;
                $body
            }
            Kind::CallPlan => {
                type $settings = CallPlan;
                $body
            }
        }
    }};
}
pub(super) use of_kind;

impl Kind {
    /// Every kind; but for classes, an item refers only to kinds before its own, or to its own.
    pub const ALL: [Kind; 15] = [
        Kind::Class,
        Kind::ShiftPattern,
        Kind::Place,
        Kind::Layout,
        Kind::States,
        Kind::Connection,
        Kind::Tag,
        Kind::AlarmClass,
        Kind::Rule,
        Kind::Report,
        Kind::Publication,
        Kind::Recorder,
        Kind::Dispatch,
        Kind::Guide,
        Kind::CallPlan,
    ];

    /// The stored name, which is also the table's.
    pub const fn name(self) -> &'static str {
        match self {
            Kind::Class => "class",
            Kind::Place => "place",
            Kind::Layout => "layout",
            Kind::States => "states",
            Kind::Connection => "connection",
            Kind::Tag => "tag",
            Kind::Rule => "rule",
            Kind::Report => "report",
            Kind::Publication => "publication",
            Kind::Recorder => "recorder",
            Kind::Dispatch => "dispatch",
            Kind::Guide => "guide",
            Kind::ShiftPattern => "shift_pattern",
            Kind::AlarmClass => "alarm_class",
            Kind::CallPlan => "call_plan",
        }
    }

    /// What a sentence calls one of them.
    pub const fn words(self) -> &'static str {
        match self {
            Kind::Class => "equipment class",
            Kind::States => "set of state names",
            Kind::Rule => "alarm rule",
            Kind::Guide => "guide to priorities",
            Kind::ShiftPattern => "shift pattern",
            Kind::AlarmClass => "alarm class",
            Kind::CallPlan => "call-out plan",
            other => other.name(),
        }
    }

    /// Reads a stored name.
    pub fn from_name(name: &str) -> Option<Kind> {
        Kind::ALL.into_iter().find(|k| k.name() == name)
    }

    /// Fields that say that an item stands for something of an equipment class.
    pub(super) fn layered(self) -> &'static [&'static str] {
        of_kind!(self, T => T::LAYERED)
    }

    /// Fields that hold a formula.
    pub fn formulas(self) -> &'static [&'static str] {
        of_kind!(self, T => T::FORMULAS)
    }

    /// Fields that hold a message, or a list of values like one.
    pub fn messages(self) -> &'static [&'static str] {
        of_kind!(self, T => T::MESSAGES)
    }

    /// Fields that stay as they were created, each with what to tell whoever tries.
    pub fn fixed(self) -> &'static [(&'static str, &'static str)] {
        of_kind!(self, T => T::FIXED)
    }
}

/// An item that another one names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reference {
    /// The field that names it.
    pub field: String,
    /// The kind it must be of; `None`: something in an address, which may be no item at all.
    pub kind: Option<Kind>,
    pub to: Uuid,
    /// The item is part of the one it names, and goes when that goes.
    pub inside: bool,
}

impl Reference {
    /// The item uses another one.
    pub fn to(field: impl Into<String>, kind: Kind, to: Uuid) -> Reference {
        Reference { field: field.into(), kind: Some(kind), to, inside: false }
    }

    /// The item is part of another one.
    pub fn inside(field: &str, kind: Kind, to: Uuid) -> Reference {
        Reference { inside: true, ..Reference::to(field, kind, to) }
    }

    /// An address names something.
    pub fn somewhere(field: String, to: Uuid) -> Reference {
        Reference { field, kind: None, to, inside: false }
    }
}

/// The settings of one kind of item.
pub trait Settings: Clone + PartialEq + Serialize + DeserializeOwned {
    const KIND: Kind;
    /// Fields that stay as they were created, each with what to tell whoever tries.
    const FIXED: &'static [(&'static str, &'static str)] = &[];

    /// Fields that say that an item stands for something of an equipment class: what it does not say itself, the class does.
    const LAYERED: &'static [&'static str] = &[];
    /// Fields with which such an item can be told before the class has been asked.
    const ALONE: &'static [&'static str] = &[];

    /// Fields that hold a formula.
    const FORMULAS: &'static [&'static str] = &[];

    /// Fields that hold a message, or a list of values like one.
    const MESSAGES: &'static [&'static str] = &[];

    /// The message in a field.
    fn message(&self, _field: &str) -> Option<&Message> {
        None
    }

    /// The formula in a field.
    fn formula(&self, _field: &str) -> Option<&Formula> {
        None
    }

    /// The place in which its formulas name tags by their name alone.
    fn place(&self, _plant: &Plant) -> Option<Uuid> {
        None
    }

    /// Where a plant keeps its items.
    fn table(plant: &Plant) -> &Table<Self>;
    fn table_mut(plant: &mut Plant) -> &mut Table<Self>;

    /// Fills in what follows from other settings where nobody says.
    fn complete(&mut self, _own: &Own) {}

    /// What an item is known by, and among what that may stand only once.
    fn known(&self) -> (Option<Uuid>, &str);

    /// The field of a second item that is known by the same, and what to tell.
    fn clash(name: &str) -> (&'static str, String) {
        ("name", format!("There is already a {} “{name}”.", Self::KIND.words()))
    }

    /// The name a person knows an item by.
    fn title(item: &Item<Self>, _plant: &Plant) -> String {
        item.set.known().1.to_owned()
    }

    /// Sorts items of one kind, and of one place where they have one.
    fn order(&self) -> f64;

    /// Every item that it names, wherever that stands.
    fn references(&self) -> Vec<Reference>;

    /// How an item uses the one it refers to, as the rest of a sentence about that: “it is the setpoint of …”.
    fn uses(item: &Item<Self>, _reference: &Reference, plant: &Plant) -> String {
        format!("“{}” uses it", Self::title(item, plant))
    }

    /// Items of other kinds that a change of this one can spoil, each with the field of this one at which that is told.
    fn dependents(_item: &Item<Self>, _plant: &Plant) -> Vec<(Kind, Uuid, &'static str)> {
        Vec::new()
    }

    /// What is wrong with an item's settings; that what it names exists is seen to elsewhere.
    fn check(item: &Item<Self>, checking: &Checking<'_>, wrong: &mut Wrong);
}

/// Something that a condition sets off.
#[derive(Clone, Copy)]
pub struct Triggered<'a> {
    pub kind: Kind,
    pub name: &'a str,
    pub trigger: &'a Formula,
}

/// What is at hand while items are checked.
pub struct Checking<'a> {
    /// The revision that is to be.
    pub plant: &'a Plant,
    pub source: &'a dyn SourceCheck,
    limits: OnceCell<HashMap<Uuid, Vec<&'a str>>>,
    readers: OnceCell<HashMap<Uuid, Vec<&'a Arc<Item<Tag>>>>>,
    judges: OnceCell<HashMap<Uuid, Vec<&'a Arc<Item<Rule>>>>>,
    triggered: OnceCell<HashMap<Uuid, Vec<Triggered<'a>>>>,
    circular: OnceCell<HashSet<Uuid>>,
}

impl<'a> Checking<'a> {
    pub fn new(plant: &'a Plant, source: &'a dyn SourceCheck) -> Checking<'a> {
        Checking {
            plant,
            source,
            limits: OnceCell::new(),
            readers: OnceCell::new(),
            judges: OnceCell::new(),
            triggered: OnceCell::new(),
            circular: OnceCell::new(),
        }
    }

    /// What the alarm rules of a tag are known by.
    pub fn limits_of(&self, tag: Uuid) -> Option<&Vec<&'a str>> {
        let all = self.limits.get_or_init(|| {
            let mut limits: HashMap<Uuid, Vec<&'a str>> = HashMap::new();
            for rule in self.plant.rules.values() {
                limits.entry(rule.set.tag).or_default().push(rule.set.known_as());
            }
            limits
        });
        all.get(&tag)
    }

    /// Whether a tag's formula reads itself, or something that does.
    pub fn is_circular(&self, tag: Uuid) -> bool {
        self.circular.get_or_init(|| self.plant.in_order().circular.iter().map(|item| item.id).collect()).contains(&tag)
    }

    /// The tags whose formulas read a tag.
    pub fn readers_of(&self, tag: Uuid) -> &[&'a Arc<Item<Tag>>] {
        let all = self.readers.get_or_init(|| {
            let mut readers: HashMap<Uuid, Vec<&'a Arc<Item<Tag>>>> = HashMap::new();
            for item in self.plant.tags.values() {
                for read in item.set.formula.iter().flat_map(Formula::references) {
                    readers.entry(read).or_default().push(item);
                }
            }
            readers
        });
        all.get(&tag).map_or(&[], Vec::as_slice)
    }

    /// The alarm rules whose formulas read a tag.
    pub fn judges_of(&self, tag: Uuid) -> &[&'a Arc<Item<Rule>>] {
        let all = self.judges.get_or_init(|| {
            let mut judges: HashMap<Uuid, Vec<&'a Arc<Item<Rule>>>> = HashMap::new();
            for item in self.plant.rules.values() {
                for read in self.plant.rule_reads(&item.set) {
                    judges.entry(read).or_default().push(item);
                }
            }
            judges
        });
        all.get(&tag).map_or(&[], Vec::as_slice)
    }

    /// The recorders and dispatches whose triggers read a tag.
    pub fn triggered_by(&self, tag: Uuid) -> &[Triggered<'a>] {
        let all = self.triggered.get_or_init(|| {
            let mut triggered: HashMap<Uuid, Vec<Triggered<'a>>> = HashMap::new();
            let recorders = self.plant.recorders.values().map(|item| (Kind::Recorder, &item.set.name, &item.set.trigger));
            let dispatches = self.plant.dispatches.values().map(|item| (Kind::Dispatch, &item.set.name, &item.set.trigger));
            for (kind, name, trigger) in recorders.chain(dispatches) {
                let Some(trigger) = trigger else { continue };
                for read in trigger.references() {
                    triggered.entry(read).or_default().push(Triggered { kind, name, trigger });
                }
            }
            triggered
        });
        all.get(&tag).map_or(&[], Vec::as_slice)
    }

    /// What is wrong with an item: what it names must exist, and its settings must make sense.
    pub(super) fn item(&self, kind: Kind, id: Uuid) -> Wrong {
        of_kind!(kind, T => self.item_of::<T>(id))
    }

    fn item_of<T: Settings>(&self, id: Uuid) -> Wrong {
        let mut wrong = Wrong::new();
        let Some(item) = T::table(self.plant).get(&id) else { return wrong };
        T::check(item, self, &mut wrong);
        if wrong.is_empty() {
            for (kind, id, field) in T::dependents(item, self.plant) {
                let title = self.plant.title(kind, id);
                wrong.extend(self.item(kind, id).into_iter().map(|(_, words)| (field.into(), format!("On {title}: {words}"))));
            }
        }
        for reference in item.set.references() {
            let Some(kind) = reference.kind.filter(|&kind| self.plant.own(kind, reference.to).is_none()) else { continue };
            let told = (reference.field, format!("The {} it names does not exist.", kind.words()));
            if !wrong.contains(&told) {
                wrong.push(told);
            }
        }
        wrong
    }
}

/// Settings of which the layer beneath is not known yet: as they were, or what an item needs to be told.
fn in_short<T: Settings>(old: Option<&Arc<Item<T>>>, own: &Own) -> Result<T, (String, String)> {
    if let Some(Json::Object(mut was)) = old.and_then(|item| serde_json::to_value(&item.set).ok()) {
        // What it stands for, it says itself.
        was.retain(|field, _| !T::LAYERED.contains(&field.as_str()));
        if let Ok(set) = resolved(Some(&was), own) {
            return Ok(set);
        }
    }
    let bare = json!({"name": "…", "kind": "high", "level": 0.0});
    let named = |field: &str| T::ALONE.contains(&field);
    let below: Own =
        bare.as_object().into_iter().flatten().filter(|(k, _)| named(k)).map(|(k, v)| (k.clone(), v.clone())).collect();
    let own: Own = own.iter().filter(|(field, _)| named(field)).map(|(k, v)| (k.clone(), v.clone())).collect();
    resolved(Some(&below), &own)
}

/// The settings that follow from an item's own and what lies beneath.
pub(super) fn resolved<T: Settings>(below: Option<&Own>, own: &Own) -> Result<T, (String, String)> {
    let merged = match below {
        Some(below) => layers::merged(&[below, own]),
        None => layers::merged(&[own]),
    };
    let mut set: T = read(&merged)?;
    set.complete(&merged);
    Ok(set)
}

impl Plant {
    /// Puts an item in. One that stands for something of an equipment class is there in short only, until
    /// [`super::instances::settle`] has asked the class.
    pub(crate) fn put(&mut self, kind: Kind, id: Uuid, no: u32, revision: i64, own: Own) -> Result<(), (String, String)> {
        fn put<T: Settings>(plant: &mut Plant, id: Uuid, no: u32, revision: i64, own: Own) -> Result<(), (String, String)> {
            let layered = T::LAYERED.iter().any(|field| own.get(*field).is_some_and(|value| !value.is_null()));
            let set: T = if layered { in_short(T::table(plant).get(&id), &own)? } else { resolved(None, &own)? };
            Arc::make_mut(T::table_mut(plant)).insert(id, Item { id, no, revision, own, set }.into());
            Ok(())
        }
        of_kind!(kind, T => put::<T>(self, id, no, revision, own))
    }

    pub(crate) fn remove(&mut self, kind: Kind, id: Uuid) {
        fn remove<T: Settings>(plant: &mut Plant, id: Uuid) {
            let table = T::table_mut(plant);
            if table.contains_key(&id) {
                Arc::make_mut(table).remove(&id);
            }
        }
        of_kind!(kind, T => remove::<T>(self, id));
    }

    /// An item's own settings, number and revision, whatever its kind.
    pub fn own(&self, kind: Kind, id: Uuid) -> Option<(&Own, u32, i64)> {
        of_kind!(kind, T => T::table(self).get(&id).map(|i| (&i.own, i.no, i.revision)))
    }

    /// An item's effective settings, field by field; empty where there is no such item.
    pub fn effective(&self, kind: Kind, id: Uuid) -> Own {
        let set = of_kind!(kind, T => T::table(self).get(&id).map(|item| serde_json::to_value(&item.set)));
        match set {
            Some(Ok(Json::Object(set))) => set,
            _ => Own::new(),
        }
    }

    /// The ids of all items of a kind, in no order.
    pub fn ids(&self, kind: Kind) -> Vec<Uuid> {
        of_kind!(kind, T => T::table(self).keys().copied().collect())
    }

    /// The items of a kind by what they are known by.
    pub(super) fn named(&self, kind: Kind) -> Vec<(&str, Uuid)> {
        of_kind!(kind, T => T::table(self).values().map(|item| (item.set.known().1, item.id)).collect())
    }

    /// Which kind of item an id belongs to.
    pub fn kind_of(&self, id: Uuid) -> Option<Kind> {
        Kind::ALL.into_iter().find(|&kind| self.own(kind, id).is_some())
    }

    /// The name a person knows an item by; empty where there is no such item.
    pub fn title(&self, kind: Kind, id: Uuid) -> String {
        of_kind!(kind, T => T::table(self).get(&id).map_or_else(String::new, |item| T::title(item, self)))
    }
}
