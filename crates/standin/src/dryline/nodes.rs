//! What the server “Dryline” shows of drying and packing: one list, from which its address space, the demo's tags and the made-up
//! past come.

use super::types::Pallet;
use crate::process::{Bagging, Dryline, GRADES, SILO_T, ZONES};
use havrel_core::sample::Value;

/// The namespace of its nodes.
pub const NAMESPACE: &str = "urn:brackmere:dryline";

/// What a node holds.
#[derive(Clone, Debug, PartialEq)]
pub enum Held {
    Double(f64),
    Float(f32),
    UInt32(u32),
    UInt64(u64),
    Boolean(bool),
    Text(String),
    /// The number of one of the node's states.
    State(i32),
    Doubles(Vec<f64>),
    Pallet(Pallet),
}

impl Held {
    /// As a driver gives it; `None` for an array and a structure, which are read by element and member.
    pub fn value(&self) -> Option<Value> {
        Some(match self {
            Held::Double(v) => Value::F64(*v),
            Held::Float(v) => Value::F32(*v),
            Held::UInt32(v) => Value::U64((*v).into()),
            Held::UInt64(v) => Value::U64(*v),
            Held::Boolean(v) => Value::Bool(*v),
            Held::Text(v) => Value::Text(v.clone()),
            Held::State(v) => Value::I64((*v).into()),
            Held::Doubles(_) | Held::Pallet(_) => return None,
        })
    }
}

/// What a node holds now.
type Read = Box<dyn Fn(&Dryline) -> Held + Send + Sync>;
/// Takes a number that a client writes.
type Write = Box<dyn Fn(&mut Dryline, f64) + Send + Sync>;

/// One variable.
pub struct Node {
    /// Where it stands, from the outside in: `Drying/Belt dryer/Zone 1`.
    pub place: String,
    pub name: &'static str,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: Option<(f64, f64)>,
    pub states: &'static [&'static str],
    /// Of a switch: its names while off and on.
    pub switch: Option<(&'static str, &'static str)>,
    pub deadband: f64,
    pub note: &'static str,
    /// Whether the server records it.
    pub recorded: bool,
    /// What it is set to, where another node says that.
    pub setpoint: &'static str,
    pub read: Read,
    pub write: Option<Write>,
}

impl Node {
    /// The identifier of its node id.
    pub fn id(&self) -> String {
        format!("{}/{}", self.place, self.name).replace(' ', "").replace('/', ".")
    }

    fn new(place: &str, name: &'static str, read: impl Fn(&Dryline) -> Held + Send + Sync + 'static) -> Node {
        Node {
            place: place.to_owned(),
            name,
            unit: "",
            decimals: 0,
            range: None,
            states: &[],
            switch: None,
            deadband: 0.0,
            note: "",
            recorded: false,
            setpoint: "",
            read: Box::new(read),
            write: None,
        }
    }

    /// A measured number.
    fn measured(mut self, unit: &'static str, decimals: u8, low: f64, high: f64) -> Node {
        (self.unit, self.decimals, self.range) = (unit, decimals, Some((low, high)));
        self.deadband = (high - low) / 500.0;
        self
    }

    fn set_by(mut self, setpoint: &'static str) -> Node {
        self.setpoint = setpoint;
        self
    }

    fn note(mut self, note: &'static str) -> Node {
        self.note = note;
        self
    }

    fn recorded(mut self) -> Node {
        self.recorded = true;
        self
    }

    fn written(mut self, write: impl Fn(&mut Dryline, f64) + Send + Sync + 'static) -> Node {
        self.write = Some(Box::new(write));
        self
    }
}

/// Every variable, in the order of the plant.
pub fn nodes() -> Vec<Node> {
    let mut all = drying();
    all.extend(packing());
    all
}

fn drying() -> Vec<Node> {
    const PRESS: &str = "Drying/Screw press";
    const BELT: &str = "Drying/Belt dryer";
    const MILL: &str = "Drying/Mill";
    let mut all = vec![
        Node::new(PRESS, "Speed", |d| Held::Double(d.press_speed)).measured("rpm", 1, 0.0, 8.0).set_by("Speed setpoint"),
        Node::new(PRESS, "Speed setpoint", |d| Held::Double(d.press_setpoint))
            .measured("rpm", 1, 0.0, 8.0)
            .written(|d, v| d.press_setpoint = v.clamp(0.0, 8.0)),
        Node::new(PRESS, "Torque", |d| Held::Float(d.press_torque as f32)).measured("%", 0, 0.0, 120.0),
        Node::new(PRESS, "Cake moisture", |d| Held::Double(d.cake)).measured("%", 1, 40.0, 90.0).recorded(),
        Node::new(BELT, "Speed", |d| Held::Double(d.belt)).measured("m/min", 2, 0.0, 3.0).set_by("Speed setpoint"),
        Node::new(BELT, "Speed setpoint", |d| Held::Double(d.belt_setpoint))
            .measured("m/min", 2, 0.0, 3.0)
            .written(|d, v| d.belt_setpoint = v.clamp(0.0, 3.0)),
        Node::new(BELT, "Bed depth", |d| Held::Double(d.bed)).measured("mm", 0, 0.0, 140.0),
        Node::new(BELT, "Product moisture", |d| Held::Double(d.moisture))
            .measured("%", 1, 0.0, 30.0)
            .note("Behind the last zone, by near infrared.")
            .recorded(),
    ];
    for n in 0..ZONES {
        let zone = format!("{BELT}/Zone {}", n + 1);
        all.extend([
            Node::new(&zone, "Temperature", move |d| Held::Double(d.zones[n].temperature))
                .measured("°C", 1, 0.0, 120.0)
                .set_by("Temperature setpoint"),
            Node::new(&zone, "Temperature setpoint", move |d| Held::Double(d.zones[n].setpoint))
                .measured("°C", 1, 20.0, 110.0)
                .written(move |d, v| d.zones[n].setpoint = v.clamp(20.0, 110.0)),
            Node::new(&zone, "Humidity", move |d| Held::Double(d.zones[n].humidity)).measured("%", 0, 0.0, 100.0),
            Node::new(&zone, "Fan speed", move |d| Held::Float(d.zones[n].fan as f32)).measured("%", 0, 0.0, 100.0),
            Node::new(&zone, "Steam valve", move |d| Held::Float(d.zones[n].valve as f32)).measured("%", 0, 0.0, 100.0),
        ]);
    }
    let mut runs = Node::new(MILL, "Running", |d| Held::Boolean(d.mill_power > 1.0));
    runs.switch = Some(("Stopped", "Running"));
    let mut allowed = Node::new(MILL, "Enabled", |d| Held::Boolean(d.mill_allowed)).written(|d, v| d.mill_allowed = v != 0.0);
    allowed.switch = Some(("Locked", "Enabled"));
    all.extend([
        runs,
        allowed,
        Node::new(MILL, "Power", |d| Held::Double(d.mill_power)).measured("kW", 1, 0.0, 55.0).recorded(),
        Node::new(MILL, "Vibration", |d| Held::Double(d.mill_vibration)).measured("mm/s", 2, 0.0, 12.0).recorded(),
        Node::new(MILL, "Product flow", |d| Held::Double(d.product)).measured("kg/h", 0, 0.0, 900.0),
    ]);
    all
}

fn packing() -> Vec<Node> {
    const BAGGING: &str = "Packing/Bagging machine";
    let mut all = Vec::new();
    for (n, grade) in GRADES.into_iter().enumerate() {
        let silo = format!("Packing/Silo {}", n + 1);
        let mut filling = Node::new(&silo, "Filling", move |d| Held::Boolean(d.filling == n));
        filling.switch = Some(("Closed", "Filling"));
        all.extend([
            Node::new(&silo, "Level", move |d| Held::Double(d.silos[n] / SILO_T * 100.0)).measured("%", 0, 0.0, 100.0),
            Node::new(&silo, "Weight", move |d| Held::Double(d.silos[n])).measured("t", 2, 0.0, SILO_T),
            Node::new(&silo, "Grade", move |_| Held::Text(grade.into())),
            filling,
        ]);
    }
    let mut state = Node::new(BAGGING, "State", |d| Held::State(d.bagging as i32));
    state.states = &Bagging::NAMES;
    all.extend([
        state,
        Node::new(BAGGING, "Bag weight", |d| Held::Double(d.bag)).measured("kg", 2, 0.0, 30.0).set_by("Bag setpoint"),
        Node::new(BAGGING, "Bag setpoint", |d| Held::Double(d.bag_setpoint))
            .measured("kg", 1, 5.0, 30.0)
            .written(|d, v| d.bag_setpoint = v.clamp(5.0, 30.0)),
        Node::new(BAGGING, "Bags", |d| Held::UInt32(d.bags)).note("Since the counter was reset."),
        Node::new(BAGGING, "Bags ever", |d| Held::UInt64(d.bags_ever)),
        Node::new(BAGGING, "Bags rejected", |d| Held::UInt32(d.rejected)).note("Out of tolerance."),
        Node::new(BAGGING, "Last bags", |d| Held::Doubles(d.last_bags.to_vec()))
            .measured("kg", 2, 0.0, 30.0)
            .note("The newest first."),
        Node::new(BAGGING, "Pallet", |d| Held::Pallet(pallet(d))).note("What stands on it now."),
    ]);
    all
}

/// Eight bags make a pallet.
fn pallet(dryline: &Dryline) -> Pallet {
    let ever = u32::try_from(dryline.bags_ever).unwrap_or(u32::MAX);
    let bags = (0..ever % 8).map(|n| (ever - n, dryline.last_bags[n as usize])).collect();
    Pallet { number: ever / 8, grade: GRADES[(ever / 8) as usize % GRADES.len()].to_owned(), bags }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::Process;
    use std::collections::HashSet;

    #[test]
    fn every_node_has_an_id_of_its_own_and_names_setpoints_that_are_there() {
        let nodes = nodes();
        let ids: HashSet<String> = nodes.iter().map(Node::id).collect();
        assert_eq!(ids.len(), nodes.len());
        for node in &nodes {
            let there = nodes.iter().any(|n| n.place == node.place && n.name == node.setpoint && n.write.is_some());
            assert!(node.setpoint.is_empty() || there, "{}", node.id());
        }
    }

    #[test]
    fn a_day_stays_within_the_ranges_that_are_stated() {
        let mut process = Process::new(1, 5);
        let nodes = nodes();
        let bags = process.dryline.bags_ever;
        for step in 0..864_000 {
            process.step();
            if step % 50 != 0 {
                continue;
            }
            for node in &nodes {
                let Some((low, high)) = node.range else { continue };
                let held = (node.read)(&process.dryline);
                let value = held.value().and_then(|v| v.number()).unwrap_or(low);
                assert!((low..=high).contains(&value), "{} is {value}", node.id());
            }
        }
        assert!(process.dryline.bags_ever > bags + 500, "{}", process.dryline.bags_ever - bags);
    }
}
