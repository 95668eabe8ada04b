//! Instances of equipment classes. Whenever a class or an instance has changed, [`settle`] sees to it that each instance has what
//! its class says: tags, alarm rules and parts are made and taken away, and the settings of those that stay are worked out anew.
//!
//! What stands for something of a class is an item like any other, with an identity, and a tag with a number, so history, trends
//! and reports know nothing of classes. It holds only what it says itself; the rest is the layer beneath ([`layer`]).

pub mod difference;
pub mod fill;
mod layer;
pub mod made;
pub mod many;
mod members;
pub mod reclass;
mod sample;

pub use members::Members;
pub(super) use sample::check_sample;

use super::{
    Class, Edit, Kind, Op, Own, Place, Plant, Property, Relations, Rule, Settings, Tag,
    kind::{of_kind, resolved},
    layers,
    place::PartOf,
};
use members::identity;
use serde_json::{Value as Json, json};
use std::{
    collections::{HashMap, HashSet, VecDeque},
    sync::Arc,
};
use uuid::Uuid;

/// The most items that one revision makes of classes.
const MOST_MADE: usize = 200_000;

/// Something wrong with an item that a class or a parameter caused.
#[derive(Clone, Debug)]
pub(super) struct Told {
    pub kind: Kind,
    pub id: Uuid,
    pub field: String,
    pub words: String,
}

/// What was made, worked out anew or taken away, each with the class or place that caused it.
#[derive(Debug, Default)]
pub(super) struct Settled {
    /// Items whose effective settings are others now, in the order in which they were worked out.
    pub changed: Vec<(Kind, Uuid, Uuid)>,
    pub removed: Vec<(Kind, Uuid, Uuid)>,
    pub wrong: Vec<(Told, Uuid)>,
}

/// What edits did.
pub(super) struct Touched<'a> {
    /// Every item that was made, changed or taken away.
    pub items: &'a [(Kind, Uuid)],
    /// The plant before.
    pub old: &'a Plant,
}

/// How instances are brought into line.
pub(super) enum Mode<'a> {
    /// Items are made and taken away; new tags get these numbers.
    Edit(&'a mut dyn FnMut() -> u32),
    /// The items are there already, as somebody else decided.
    Follow,
    /// The same, for a plant just read: what is worked out is as old as what it follows from.
    Load,
}

/// Brings instances into line with their classes.
pub(super) fn settle<'a>(plant: &'a mut Plant, touched: &Touched<'a>, mode: Mode<'a>) -> Settled {
    let mut settled = Settled::default();
    let load = matches!(mode, Mode::Load);
    let classes = change_classes(plant, touched.items, load, &mut settled);
    let mut causes = instances_of(plant, &classes);
    let touched_at = touched_at(plant, touched);
    causes.extend(&touched_at);
    if causes.is_empty() {
        return settled;
    }
    // What would not come to an end is not begun.
    let mut of: Vec<Uuid> = causes.keys().filter_map(|place| plant.places.get(place)?.set.class).collect();
    of.extend(classes.keys());
    of.sort_unstable();
    of.dedup();
    for class in of {
        if let Some(words) = plant.endless(class) {
            settled.wrong.push((Told { kind: Kind::Class, id: class, field: "parts".into(), words }, class));
        }
    }
    if !settled.wrong.is_empty() {
        return settled;
    }
    let members = Members::of(plant);
    let taken = taken(plant, touched);
    let told: HashSet<Uuid> = touched.items.iter().map(|(_, id)| *id).collect();
    let mut settling =
        Settling { plant, old: touched.old, members, taken, told, touched_at, mode, settled, made: 0, relations: None };
    settling.walk(causes);
    settling.settled
}

/// What stood for something of a class and was taken away by hand: by what it is in, what of it it stood for, and which one.
fn taken(plant: &Plant, touched: &Touched<'_>) -> HashMap<(Uuid, Uuid, u32), Uuid> {
    let key = |&(kind, id): &(Kind, Uuid)| {
        let old = touched.old;
        let key = match kind {
            Kind::Place => old.places.get(&id).and_then(|p| Some((p.set.parent?, p.set.part?.of, p.set.part?.number))),
            Kind::Tag => old.tags.get(&id).and_then(|t| Some((t.set.place, t.set.property?, 0))),
            Kind::Rule => old.rules.get(&id).and_then(|r| Some((r.set.tag, r.set.class_rule?, 0))),
            _ => None,
        };
        Some((key.filter(|_| plant.own(kind, id).is_none())?, id))
    };
    touched.items.iter().filter_map(key).collect()
}

/// Works out the classes that lie over those that were touched, too; gives all of them, each with the one that caused it.
fn change_classes(plant: &mut Plant, touched: &[(Kind, Uuid)], load: bool, settled: &mut Settled) -> HashMap<Uuid, Uuid> {
    let first: HashSet<Uuid> = touched.iter().filter(|(kind, _)| *kind == Kind::Class).map(|(_, id)| *id).collect();
    let mut all = HashMap::new();
    if first.is_empty() {
        return all;
    }
    let lines: Vec<(Uuid, Vec<Uuid>)> = plant.classes.keys().filter_map(|&id| Some((id, plant.lineage(id)?))).collect();
    for (id, line) in lines {
        let Some(&cause) = line.iter().find(|class| first.contains(class)) else { continue };
        all.insert(id, cause);
        let below = plant.inherited(Kind::Class, id, &Members::default());
        let oldest = line.iter().filter_map(|class| Some(plant.classes.get(class)?.revision)).max().unwrap_or(0);
        match put::<Class>(plant, id, below.as_ref(), if load { oldest } else { plant.revision }) {
            Ok(true) => settled.changed.push((Kind::Class, id, cause)),
            Ok(false) => {}
            Err((field, words)) => settled.wrong.push((Told { kind: Kind::Class, id, field, words }, cause)),
        }
    }
    all
}

/// About how many items edits come to, with those that classes make of them.
pub fn weight(plant: &Plant, edits: &[Edit]) -> usize {
    let class_of = |set: &Own| set.get("class").and_then(Json::as_str).and_then(|id| id.parse::<Uuid>().ok());
    let mut instances: Option<HashMap<Uuid, usize>> = None;
    let mut of = |class: Uuid| {
        let counted = instances.get_or_insert_with(|| {
            let mut counted: HashMap<Uuid, usize> = HashMap::new();
            plant.places.values().filter_map(|p| p.set.class).for_each(|class| *counted.entry(class).or_default() += 1);
            counted
        });
        counted.get(&class).copied().unwrap_or(0)
    };
    let one = |edit: &Edit| match (&edit.op, edit.kind) {
        (Op::Create(set, _), Kind::Place) => class_of(set).and_then(|class| plant.items_of_class(class)).unwrap_or(1),
        (Op::Patch(_), Kind::Class) => of(edit.id).saturating_mul(plant.items_of_class(edit.id).unwrap_or(1)).max(1),
        _ => 1,
    };
    edits.iter().map(one).fold(0, usize::saturating_add)
}

/// Works out what classes inherit, as far as it is known.
pub(super) fn inherit(plant: &mut Plant, classes: &[Uuid]) {
    let touched: Vec<(Kind, Uuid)> = classes.iter().map(|&id| (Kind::Class, id)).collect();
    change_classes(plant, &touched, false, &mut Settled::default());
}

/// The field of a class by which something went wrong on one of its instances.
pub(super) fn field_of_class(plant: &Plant, told: &Told, class: Uuid) -> Option<String> {
    let mut place = match told.kind {
        Kind::Place => Some(told.id),
        Kind::Tag => plant.tags.get(&told.id).map(|tag| tag.set.place),
        Kind::Rule => plant.rules.get(&told.id).and_then(|r| plant.tags.get(&r.set.tag)).map(|tag| tag.set.place),
        _ => None,
    };
    for _ in 0..64 {
        let item = plant.places.get(&place?)?;
        if item.set.class.is_some_and(|of| plant.is_a(of, class))
            && let Some((at, direct)) = sample::at_class(plant, told.kind, told.id, item.id)
        {
            return Some(if direct { format!("{at}.{}", told.field) } else { at });
        }
        place = item.set.parent;
    }
    None
}

/// Fields that say what an item stands for, and nothing over its class.
pub const STANDS: [&str; 6] = ["place", "property", "tag", "class_rule", "parent", "part"];

/// The settings of an item without its overrides: what it stands for, over what it inherits; empty where that is not enough.
pub fn plain(kind: Kind, below: &Own, own: &Own) -> Own {
    fn of<T: Settings>(below: &Own, bare: &Own) -> Option<Json> {
        serde_json::to_value(resolved::<T>(Some(below), bare).ok()?).ok()
    }
    let stands = |(field, _): &(&String, &Json)| STANDS.contains(&field.as_str());
    let bare: Own = own.iter().filter(stands).map(|(field, value)| (field.clone(), value.clone())).collect();
    let set = of_kind!(kind, T => of::<T>(below, &bare));
    set.and_then(|set| set.as_object().cloned()).unwrap_or_default()
}

/// Turns edits as forms give them, with whole objects, into what items say themselves: only what differs from what they inherit.
pub fn as_own<'e>(plant: &Plant, edits: impl IntoIterator<Item = &'e mut Edit>) {
    let mut members = None;
    for edit in edits {
        let Op::Patch(set) = &mut edit.op else { continue };
        let layered = match edit.kind {
            Kind::Class => plant.classes.get(&edit.id).is_some_and(|item| item.set.extends.is_some()),
            Kind::Place => plant.places.get(&edit.id).is_some_and(|item| item.set.part.is_some()),
            Kind::Tag => plant.tags.get(&edit.id).is_some_and(|item| item.set.property.is_some()),
            _ => false,
        };
        if !layered || !set.values().any(Json::is_object) {
            continue;
        }
        // A form gives a class with all its defaults.
        let base = plant.classes.get(&edit.id).and_then(|item| item.set.extends);
        let below = match base {
            Some(base) => Some(plant.effective(Kind::Class, base)),
            None => plant.inherited(edit.kind, edit.id, members.get_or_insert_with(|| Members::of(plant))),
        };
        let Some(below) = below else { continue };
        for (field, value) in set {
            if let (Json::Object(whole), Some(Json::Object(inherited))) = (&*value, below.get(field)) {
                let said = layers::over(inherited, whole);
                *value = if said.is_empty() { Json::Null } else { Json::Object(said) };
            }
        }
    }
}

/// The places that are of one of these classes, each with the class that caused it.
fn instances_of(plant: &Plant, classes: &HashMap<Uuid, Uuid>) -> HashMap<Uuid, Uuid> {
    if classes.is_empty() {
        return HashMap::new();
    }
    let cause = |place: &Arc<super::Item<Place>>| Some((place.id, *classes.get(&place.set.class?)?));
    plant.places.values().filter_map(cause).collect()
}

/// The places of which somebody touched something that stands for their class, each with what was touched.
fn touched_at(plant: &Plant, touched: &Touched<'_>) -> HashMap<Uuid, Uuid> {
    let mut found = HashMap::new();
    if plant.classes.is_empty() {
        return found;
    }
    for &(kind, id) in touched.items {
        for of in [plant, touched.old] {
            let mut places = [None, None];
            match kind {
                Kind::Place => {
                    if let Some(place) = of.places.get(&id).filter(|p| p.set.class.is_some() || p.set.part.is_some()) {
                        // The one above may miss a part now.
                        places = [Some(id), place.set.parent.filter(|_| place.set.part.is_some())];
                    }
                }
                Kind::Tag => places[0] = of.tags.get(&id).filter(|t| t.set.property.is_some()).map(|t| t.set.place),
                Kind::Rule => {
                    let rule = of.rules.get(&id).filter(|r| r.set.class_rule.is_some());
                    places[0] = rule.and_then(|r| of.tags.get(&r.set.tag)).map(|t| t.set.place);
                }
                _ => {}
            }
            let there = places.into_iter().flatten().filter(|place| plant.places.contains_key(place));
            found.extend(there.map(|place| (place, id)));
        }
    }
    found
}

/// Gives an item the settings that follow from its own and what lies beneath; says whether they are others.
fn put<T: Settings>(plant: &mut Plant, id: Uuid, below: Option<&Own>, at: i64) -> Result<bool, (String, String)> {
    let Some(item) = T::table(plant).get(&id) else { return Ok(false) };
    let set: T = resolved(below, &item.own)?;
    if set == item.set {
        return Ok(false);
    }
    let mut item = (**item).clone();
    item.set = set;
    item.revision = item.revision.max(at);
    Arc::make_mut(T::table_mut(plant)).insert(id, item.into());
    Ok(true)
}

struct Settling<'a> {
    plant: &'a mut Plant,
    /// The plant before.
    old: &'a Plant,
    members: Members,
    /// See [`taken`].
    taken: HashMap<(Uuid, Uuid, u32), Uuid>,
    /// Items that somebody touched, and not only their class.
    told: HashSet<Uuid>,
    /// See [`touched_at`].
    touched_at: HashMap<Uuid, Uuid>,
    mode: Mode<'a>,
    settled: Settled,
    made: usize,
    relations: Option<Relations>,
}

impl Settling<'_> {
    fn walk(&mut self, causes: HashMap<Uuid, Uuid>) {
        let depth = |place: &Uuid| self.plant.path(Some(*place)).matches('/').count();
        let mut first: Vec<(usize, Uuid, Uuid)> =
            causes.into_iter().map(|(place, cause)| (depth(&place), place, cause)).collect();
        first.sort_unstable();
        let mut open: VecDeque<(Uuid, Uuid)> = first.into_iter().map(|(_, place, cause)| (place, cause)).collect();
        let mut seen = HashSet::new();
        let mut walked = Vec::new();
        while let Some((place, cause)) = open.pop_front() {
            // A place that is a part is gone through behind the one above, where that is affected too.
            if !self.plant.places.contains_key(&place) || !seen.insert(place) {
                continue;
            }
            let before = self.work();
            self.place(place, cause);
            for part in self.parts(place, cause) {
                open.push_front((part, cause));
            }
            self.tags(place, cause);
            walked.push((place, cause, before == self.work()));
        }
        for (place, cause, same) in walked {
            self.settings(place, cause, same);
        }
        self.tell_doubles();
    }

    fn wrong(&mut self, kind: Kind, id: Uuid, (field, words): (String, String), cause: Uuid) {
        self.settled.wrong.push((Told { kind, id, field, words }, cause));
    }

    /// How much was done so far.
    fn work(&self) -> usize {
        self.settled.changed.len() + self.settled.removed.len() + self.settled.wrong.len()
    }

    /// Whether a class says of a property what it said before, so that on an instance that is as it was nothing follows.
    fn says_the_same(&self, class: Uuid, now: &Class, property: Uuid) -> bool {
        let Some(was) = self.old.classes.get(&class).map(|was| &was.set) else { return false };
        // What a formula reads in a part can have gone with the class of that.
        let own = now.properties.get(&property);
        let reaches = own.is_some_and(|own| own.formulas().iter().any(|(_, text)| text.contains('/')));
        !reaches && own == was.properties.get(&property) && now.parameters == was.parameters
    }

    fn edits(&self) -> bool {
        matches!(self.mode, Mode::Edit(_))
    }

    /// The revision in which what follows from a place and its class came to be.
    fn since(&self, place: Uuid) -> i64 {
        if !matches!(self.mode, Mode::Load) {
            return self.plant.revision;
        }
        let Some(item) = self.plant.places.get(&place) else { return 0 };
        let class = item.set.class.and_then(|id| self.plant.classes.get(&id)).map_or(0, |class| class.revision);
        class.max(item.revision)
    }

    fn put<T: Settings>(&mut self, id: Uuid, layer: &Own, at: i64, cause: Uuid) {
        match put::<T>(self.plant, id, Some(layer), at) {
            Ok(true) => self.settled.changed.push((T::KIND, id, cause)),
            Ok(false) => {}
            Err(wrong) => self.wrong(T::KIND, id, wrong, cause),
        }
    }

    fn place(&mut self, place: Uuid, cause: Uuid) {
        match self.plant.place_layer(place) {
            Ok(layer) => {
                let above = self.plant.places.get(&place).and_then(|p| p.set.parent.filter(|_| p.set.part.is_some()));
                let at = self.since(above.unwrap_or(place)).max(self.since(place));
                self.put::<Place>(place, &layer, at, cause);
            }
            Err(wrong) => self.wrong(Kind::Place, place, wrong, cause),
        }
    }

    /// Makes and takes away the parts of a place; gives those that it has.
    fn parts(&mut self, place: Uuid, cause: Uuid) -> Vec<Uuid> {
        let wanted = self.plant.parts_wanted(place);
        if self.edits() {
            let keep: HashSet<PartOf> = wanted.iter().copied().collect();
            for (part, id) in self.members.parts_of(place) {
                if !keep.contains(&part) {
                    self.remove(Kind::Place, id, cause);
                    self.members.remove_part(place, part);
                }
            }
            for &part in &wanted {
                if self.members.part(place, part).is_none() {
                    let own = json!({"parent": place, "part": part});
                    let id = self.create(Kind::Place, (place, part.of, part.number), own, cause);
                    id.into_iter().for_each(|id| self.members.add_part(place, part, id));
                }
            }
        }
        wanted.iter().filter_map(|part| self.members.part(place, *part)).collect()
    }

    /// Makes and takes away the tags of a place.
    fn tags(&mut self, place: Uuid, cause: Uuid) {
        if !self.edits() {
            return;
        }
        let without = &self.plant.places[&place].set.without;
        let wanted: Vec<Uuid> = match self.plant.class_of(place) {
            Some(class) => class.in_order().into_iter().map(|(id, _)| id).filter(|id| !without.contains(id)).collect(),
            None => Vec::new(),
        };
        let keep: HashSet<Uuid> = wanted.iter().copied().collect();
        for (property, id) in self.members.tags_of(place) {
            if !keep.contains(&property) {
                self.remove(Kind::Tag, id, cause);
                self.members.remove_tag(place, property);
            }
        }
        for property in wanted {
            if self.members.tag(place, property).is_none() {
                let own = json!({"place": place, "property": property});
                let id = self.create(Kind::Tag, (place, property, 0), own, cause);
                id.into_iter().for_each(|id| self.members.add_tag(place, property, id));
            }
        }
    }

    /// Works out the settings of the tags of a place and of their rules, of which it makes and takes away what it must.
    fn settings(&mut self, place: Uuid, cause: Uuid, same: bool) {
        let Some(class) = self.plant.places.get(&place).and_then(|p| p.set.class) else { return };
        let Some(class) = self.plant.classes.get(&class).cloned() else { return };
        // Only the class can have changed, and neither the place nor anything of it.
        let same = same && !matches!(self.mode, Mode::Load) && !self.touched_at.contains_key(&place);
        let scope = self.plant.scope_of(place);
        let at = self.since(place);
        for (property, said) in class.set.in_order() {
            let Some(tag) = self.members.tag(place, property) else { continue };
            if same && self.says_the_same(class.id, &class.set, property) {
                continue;
            }
            match self.plant.tag_layer(place, said, &scope, &self.members) {
                Ok(layer) => self.put::<Tag>(tag, &layer, at, cause),
                Err(wrong) => self.wrong(Kind::Tag, tag, wrong, cause),
            }
            if self.edits() {
                self.rules(tag, said, cause);
            }
            let rules: HashMap<Uuid, Uuid> = self.members.rules_of(tag).into_iter().collect();
            for (rule, own) in &said.rules {
                let Some(&id) = rules.get(rule) else { continue };
                match self.plant.rule_layer(place, own, &scope, &self.members) {
                    Ok(layer) => self.put::<Rule>(id, &layer, at, cause),
                    Err(wrong) => self.wrong(Kind::Rule, id, wrong, cause),
                }
            }
        }
    }

    /// Makes and takes away the alarm rules of a tag.
    fn rules(&mut self, tag: Uuid, said: &Property, cause: Uuid) {
        let there = self.members.rules_of(tag);
        for &(rule, id) in &there {
            if !said.rules.contains_key(&rule) {
                self.remove(Kind::Rule, id, cause);
                self.members.remove_rule(tag, rule);
            }
        }
        for &rule in said.rules.keys() {
            if !there.iter().any(|(known, _)| *known == rule) {
                let own = json!({"tag": tag, "class_rule": rule});
                let id = self.create(Kind::Rule, (tag, rule, 0), own, cause);
                id.into_iter().for_each(|id| self.members.add_rule(tag, rule, id));
            }
        }
    }

    /// Makes an item that stands for something of a class; what it is called and what it does is worked out behind.
    fn create(&mut self, kind: Kind, of: (Uuid, Uuid, u32), own: Json, cause: Uuid) -> Option<Uuid> {
        if let Some(&gone) = self.taken.get(&of) {
            let words = match kind {
                Kind::Rule => "This alarm rule belongs to the equipment class. Disable it here, or remove it from the class.",
                _ => "This belongs to the equipment class. Leave it out on the equipment, or remove it from the class.",
            };
            self.wrong(kind, gone, (String::new(), words.into()), gone);
            return None;
        }
        self.made += 1;
        if self.made >= MOST_MADE {
            if self.made == MOST_MADE {
                let words = format!("This would make more than {MOST_MADE} items at once; make them in several steps.");
                self.wrong(Kind::Place, cause, (String::new(), words), cause);
            }
            return None;
        }
        let mut turn = 0;
        let mut id = identity(of, turn);
        while self.plant.own(kind, id).is_some() {
            turn += 1;
            id = identity(of, turn);
        }
        let no = match (kind, &mut self.mode) {
            (Kind::Tag, Mode::Edit(numbers)) => numbers(),
            _ => 0,
        };
        let Json::Object(own) = own else { return None };
        let revision = self.plant.revision;
        if let Err(wrong) = self.plant.put(kind, id, no, revision, own) {
            self.wrong(kind, id, wrong, cause);
        }
        self.settled.changed.push((kind, id, cause));
        Some(id)
    }

    fn remove(&mut self, kind: Kind, id: Uuid, cause: Uuid) {
        // What somebody has just made or changed does not vanish without a word.
        if self.told.contains(&id) {
            let words = "The class of the equipment has nothing that this could stand for.";
            self.wrong(kind, id, (String::new(), words.into()), id);
            return;
        }
        let relations = self.relations.get_or_insert_with(|| Relations::of(self.plant));
        let inside = relations.contents(kind, id);
        for (kind, id) in [(kind, id)].into_iter().chain(inside) {
            if self.plant.own(kind, id).is_some() {
                self.plant.remove(kind, id);
                self.settled.removed.push((kind, id, cause));
            }
        }
    }

    fn tell_doubles(&mut self) {
        for (kind, [one, other]) in self.members.double().to_vec() {
            let id = if self.told.contains(&one) { one } else { other };
            let words = "The equipment has another one for the same property, part or rule of its class.";
            self.wrong(kind, id, (String::new(), words.into()), id);
        }
    }
}

#[cfg(test)]
mod tests;
