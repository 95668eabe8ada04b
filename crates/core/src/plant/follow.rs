//! Following a value: every joint on its way from the wire to the tag and on to whoever uses it, and which of them is the first that
//! is broken.

use super::{Item, Kind, Plant, Tag, loop_check::Wire};
use crate::{
    engine::Current,
    quality::{Class, Reason},
};
use serde::Serialize;
use std::collections::HashSet;
use uuid::Uuid;

/// How many formulas deep inputs are followed.
const DEEPEST: usize = 8;
/// Most tags that are followed for one value.
const MOST_TAGS: usize = 200;

/// What a joint is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum JointKind {
    /// The way to the device.
    Connection,
    /// The polling group.
    Group,
    /// A place that is out of service.
    Place,
    /// Where in the device it is read.
    Point,
    Scaling,
    Formula,
    /// Somebody set the value by hand.
    ByHand,
    /// What counts for the tag.
    Value,
}

/// How a joint fares.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum JointState {
    Good,
    Uncertain,
    Bad,
    /// Nothing passes it, because one before it is broken.
    Unreached,
}

/// A joint on the way of a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Joint {
    pub kind: JointKind,
    /// What it is, in words.
    pub words: String,
    pub state: JointState,
    /// Why it is not good; empty where it is.
    pub reason: String,
    /// What usually mends it, where that is known.
    pub cure: String,
    /// The item that it belongs to.
    pub item: Option<(Kind, Uuid)>,
}

/// A value with its way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Followed {
    pub tag: Uuid,
    pub joints: Vec<Joint>,
    /// The values that its formula reads.
    pub inputs: Vec<Followed>,
    /// The first broken joint: the tag and the place among its joints; it may be one of an input.
    pub broken: Option<(Uuid, usize)>,
}

/// How a connection fares.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LinkFact {
    /// Values come through it, or none can at present.
    pub broken: bool,
    pub words: String,
    pub cure: String,
}

/// What following asks of the running plant.
pub trait Facts {
    fn current(&self, tag: &Item<Tag>) -> Current;
    fn link(&self, connection: Uuid) -> LinkFact;
    /// Who set a tag by hand, and until when, in words.
    fn by_hand(&self, tag: Uuid) -> Option<String>;
    fn wire(&self) -> &dyn Wire;
}

/// Which joint a reason belongs to.
fn joint_of(reason: Reason) -> JointKind {
    match reason {
        Reason::NoAnswer | Reason::NotConnected | Reason::SwitchedOff | Reason::NotRead | Reason::NodeOffline => {
            JointKind::Connection
        }
        Reason::Paused => JointKind::Group,
        Reason::OutOfService => JointKind::Place,
        Reason::Clamped => JointKind::Scaling,
        Reason::ByHand => JointKind::ByHand,
        Reason::BadInput
        | Reason::NoResult
        | Reason::UncertainInput
        | Reason::PartMissing
        | Reason::InputDigits
        | Reason::ComputedLater => JointKind::Formula,
        _ => JointKind::Point,
    }
}

/// Follows a tag's value; `None` where there is no such tag.
pub fn follow(plant: &Plant, tag: Uuid, facts: &dyn Facts) -> Option<Followed> {
    Following { plant, facts, seen: HashSet::new() }.tag(tag, 0)
}

struct Following<'a> {
    plant: &'a Plant,
    facts: &'a dyn Facts,
    /// An input that is met again is not followed twice.
    seen: HashSet<Uuid>,
}

impl Following<'_> {
    fn tag(&mut self, id: Uuid, depth: usize) -> Option<Followed> {
        let item = self.plant.tags.get(&id)?.clone();
        self.seen.insert(id);
        let (tag, current) = (&item.set, self.facts.current(&item));
        let mut joints: Vec<Joint> = Vec::new();
        if let Some(place) = self.plant.out_of_service(tag.place) {
            let words = format!("“{}” is out of service.", self.plant.path(Some(place)));
            joints.push(joint(JointKind::Place, words, Some((Kind::Place, place))));
        }
        let mut inputs = Vec::new();
        match (&tag.formula, tag.connection) {
            (Some(formula), _) => {
                for input in formula.references().collect::<Vec<_>>() {
                    if depth < DEEPEST && self.seen.len() < MOST_TAGS && !self.seen.contains(&input) {
                        inputs.extend(self.tag(input, depth + 1));
                    }
                }
                let words = format!("= {}", self.plant.formula_shown(formula.text()));
                joints.push(joint(JointKind::Formula, words, Some((Kind::Tag, id))));
            }
            (None, Some(connection)) => self.source(tag, connection, &mut joints),
            (None, None) => joints.push(joint(JointKind::Point, "It has no source.".into(), Some((Kind::Tag, id)))),
        }
        if let Some(words) = self.facts.by_hand(id) {
            joints.push(joint(JointKind::ByHand, words, Some((Kind::Tag, id))));
        }
        let value = current.value.as_ref().map(|value| format!("{} {}", self.plant.print(tag, value), tag.unit));
        let words = value.map_or_else(|| "No value yet.".into(), |words| words.trim_end().to_owned());
        joints.push(joint(JointKind::Value, words, Some((Kind::Tag, id))));
        let broken = self.judge(&item, &current, &mut joints).map(|at| (id, at));
        // What an input breaks is broken there.
        let of_input = inputs.iter().find_map(|input: &Followed| input.broken);
        let by_input = matches!(current.quality.reason(), Reason::BadInput | Reason::UncertainInput);
        let broken = if by_input { of_input.or(broken) } else { broken };
        Some(Followed { tag: id, joints, inputs, broken })
    }

    /// The joints between the device and the tag.
    fn source(&self, tag: &Tag, id: Uuid, joints: &mut Vec<Joint>) {
        let Some(connection) = self.plant.connections.get(&id).map(|c| &c.set) else { return };
        let wire = self.facts.wire();
        let leads = wire.leads_to(connection).filter(|leads| !leads.is_empty());
        let words = leads.map_or_else(|| connection.name.clone(), |leads| format!("{} · {leads}", connection.name));
        joints.push(joint(JointKind::Connection, words, Some((Kind::Connection, id))));
        if let Some(group) = connection.groups.iter().find(|group| Some(group.id) == tag.group) {
            joints.push(joint(JointKind::Group, group.name.clone(), Some((Kind::Connection, id))));
        }
        let (words, scaling) = match self.plant.source(connection, tag) {
            Ok(source) => (wire.read_at(connection, &source.point), source.scaling),
            Err((_, words)) => (words, None),
        };
        joints.push(joint(JointKind::Point, words, Some((Kind::Connection, id))));
        if let Some(scaling) = scaling {
            joints.push(joint(JointKind::Scaling, scaling.words(&tag.unit), None));
        }
    }

    /// Says how each joint fares, from the quality of the value and from how the connection fares; gives the first broken one.
    fn judge(&self, tag: &Item<Tag>, current: &Current, joints: &mut [Joint]) -> Option<usize> {
        let (class, reason) = (current.quality.class(), current.quality.reason());
        let link = tag.set.connection.filter(|_| tag.set.formula.is_none()).map(|id| self.facts.link(id)).unwrap_or_default();
        let at_of = |kind: JointKind| joints.iter().position(|joint| joint.kind == kind);
        // What a person set stands in for everything before it, so the quality tells nothing of that.
        let by_quality = (class != Class::Good)
            .then(|| at_of(joint_of(reason)).or_else(|| at_of(JointKind::Point)).or_else(|| at_of(JointKind::Formula)))
            .flatten();
        let by_link = link.broken.then(|| at_of(JointKind::Connection)).flatten();
        let idle = at_of(JointKind::Place);
        let broken = [idle, by_link, by_quality].into_iter().flatten().min();
        let by_hand = at_of(JointKind::ByHand);
        for (at, joint) in joints.iter_mut().enumerate() {
            joint.state = match broken {
                Some(first) if at > first && by_hand.is_none_or(|hand| at < hand) => JointState::Unreached,
                Some(first) if at == first && class == Class::Uncertain && Some(at) != by_link => JointState::Uncertain,
                Some(first) if at == first => JointState::Bad,
                _ => JointState::Good,
            };
        }
        let joint = &mut joints[broken?];
        (joint.reason, joint.cure) = match () {
            () if broken == idle => ("nothing is read there".into(), String::new()),
            () if broken == by_link && !link.words.is_empty() => (link.words, link.cure),
            () => match current.cause {
                Some(cause) => (cause.words(|id| self.plant.tags.get(&id).map(|t| self.plant.tag_path(&t.set))), String::new()),
                None => (reason.words().into(), String::new()),
            },
        };
        broken
    }
}

fn joint(kind: JointKind, words: String, item: Option<(Kind, Uuid)>) -> Joint {
    Joint { kind, words, state: JointState::Good, reason: String::new(), cure: String::new(), item }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        plant::{Connection, Own, Stored},
        quality::Quality,
        sample::Value,
    };
    use rstest::rstest;
    use serde_json::{Value as Json, json};
    use std::collections::HashMap;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// A level that is read and scaled, an average over it and another, and one without a source.
    fn plant(in_service: bool) -> Plant {
        let item = |kind, n: u128, own: Json| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 1,
            own: own.as_object().unwrap().clone(),
        };
        let read = json!({"name": "Level", "place": id(1), "unit": "%", "connection": id(2), "point": {"address": "40001"}, "group": id(9),
            "scaling": {"raw_low": 0, "raw_high": 4000, "low": 0, "high": 100, "clamp": true}});
        let (plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, json!({"name": "EX-1", "in_service": in_service})),
                item(
                    Kind::Connection,
                    2,
                    json!({"name": "Extraction", "kind": "modbus", "groups": [{"id": id(9), "name": "Fast", "interval_ms": 250}]}),
                ),
                item(Kind::Tag, 10, read),
                item(
                    Kind::Tag,
                    11,
                    json!({"name": "Mean", "place": id(1), "formula": {"text": format!("at(\"{}\") + at(\"{}\")", id(10), id(12))}}),
                ),
                item(Kind::Tag, 12, json!({"name": "Note", "place": id(1)})),
                item(
                    Kind::Tag,
                    13,
                    json!({"name": "Twice", "place": id(1), "formula": {"text": format!("at(\"{}\") * 2.0", id(11))}}),
                ),
            ],
        );
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    #[derive(Default)]
    struct Running {
        reasons: HashMap<u128, Reason>,
        broken: bool,
        by_hand: bool,
    }

    impl Wire for Running {
        fn leads_to(&self, _: &Connection) -> Option<String> {
            Some("10.0.4.21:502".into())
        }

        fn read_at(&self, _: &Connection, point: &Own) -> String {
            point["address"].as_str().unwrap().into()
        }
    }

    impl Facts for Running {
        fn current(&self, tag: &Item<Tag>) -> Current {
            let reason = self.reasons.get(&tag.id.as_u128()).copied().unwrap_or(Reason::Fine);
            Current { value: Some(Value::F64(42.0)), time: 1, quality: Quality::of(reason), told: 1, ..Current::UNREAD }
        }

        fn link(&self, _: Uuid) -> LinkFact {
            match self.broken {
                true => LinkFact { broken: true, words: "Nobody answers.".into(), cure: "Look at the cable.".into() },
                false => LinkFact::default(),
            }
        }

        fn by_hand(&self, tag: Uuid) -> Option<String> {
            (self.by_hand && tag == id(10)).then(|| "set by the shift lead".into())
        }

        fn wire(&self) -> &dyn Wire {
            self
        }
    }

    fn states(followed: &Followed) -> String {
        let letter = |joint: &Joint| match joint.state {
            JointState::Good => 'g',
            JointState::Uncertain => 'u',
            JointState::Bad => 'b',
            JointState::Unreached => '-',
        };
        followed.joints.iter().map(letter).collect()
    }

    #[rstest]
    // connection, group, point, scaling, value
    #[case::all_well(Running::default(), "ggggg", None)]
    #[case::a_cut_cable(Running { broken: true, reasons: [(10, Reason::NoAnswer)].into(), ..Running::default() }, "b----", Some("Nobody answers."))]
    #[case::cut_before_the_value_knows(Running { broken: true, ..Running::default() }, "b----", Some("Nobody answers."))]
    #[case::paused(Running { reasons: [(10, Reason::Paused)].into(), ..Running::default() }, "gb---", Some("its polling group is paused"))]
    #[case::no_address(Running { reasons: [(10, Reason::NoSuchAddress)].into(), ..Running::default() }, "ggb--", Some("the device has no such address"))]
    #[case::clamped(Running { reasons: [(10, Reason::Clamped)].into(), ..Running::default() }, "gggu-", Some("outside its scaled range"))]
    fn the_first_broken_joint_is_where_the_reason_lies(
        #[case] running: Running,
        #[case] wanted: &str,
        #[case] reason: Option<&str>,
    ) {
        let followed = follow(&plant(true), id(10), &running).unwrap();
        assert_eq!(states(&followed), wanted, "{followed:?}");
        let told = followed.broken.map(|(tag, at)| (tag, followed.joints[at].reason.as_str()));
        assert_eq!(told, reason.map(|reason| (id(10), reason)));
    }

    #[test]
    fn every_joint_says_what_it_is() {
        let followed = follow(&plant(true), id(10), &Running::default()).unwrap();
        let words: Vec<&str> = followed.joints.iter().map(|joint| joint.words.as_str()).collect();
        let scaled = "raw 0 to 4000 reads 0 to 100 %, held at its ends";
        assert_eq!(words, ["Extraction · 10.0.4.21:502", "Fast", "40001", scaled, "42.0 %"]);
    }

    #[test]
    fn what_is_set_by_hand_stands_in_for_what_is_broken_before_it() {
        let running = Running { broken: true, by_hand: true, reasons: [(10, Reason::ByHand)].into() };
        let followed = follow(&plant(true), id(10), &running).unwrap();
        assert_eq!((states(&followed).as_str(), followed.broken), ("b---gg", Some((id(10), 0))));
    }

    #[test]
    fn a_place_out_of_service_comes_before_everything() {
        let running = Running { reasons: [(10, Reason::OutOfService)].into(), ..Running::default() };
        let followed = follow(&plant(false), id(10), &running).unwrap();
        assert_eq!((states(&followed).as_str(), followed.broken), ("b-----", Some((id(10), 0))));
        assert_eq!(followed.joints[0].words, "“EX-1” is out of service.");
    }

    #[test]
    fn what_breaks_an_input_is_named_at_the_input() {
        let bad = [(10, Reason::NoAnswer), (11, Reason::BadInput), (13, Reason::BadInput)];
        let running = Running { broken: true, reasons: bad.into(), ..Running::default() };
        let followed = follow(&plant(true), id(13), &running).unwrap();
        assert_eq!(followed.broken, Some((id(10), 0)));
        assert_eq!((states(&followed).as_str(), followed.inputs[0].inputs.len()), ("b-", 2));
        // The formula's own fault is its own.
        let own = Running { reasons: [(13, Reason::NoResult)].into(), ..Running::default() };
        assert_eq!(follow(&plant(true), id(13), &own).unwrap().broken, Some((id(13), 0)));
        // A tag without a source says so.
        let none = Running { reasons: [(12, Reason::NoSource), (11, Reason::BadInput)].into(), ..Running::default() };
        let followed = follow(&plant(true), id(11), &none).unwrap();
        assert_eq!(followed.broken, Some((id(12), 0)));
        assert_eq!(followed.inputs[1].joints[0].words, "It has no source.");
        assert!(follow(&plant(true), id(99), &none).is_none());
    }
}
