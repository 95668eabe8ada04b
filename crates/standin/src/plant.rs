//! The demo plant's configuration: areas Landing and Extraction of Brackmere Kelp Works on the simulated controllers, Drying on the
//! simulated server, Utilities and Effluent on the simulated broker, weather and tariff from the simulated service. Connections and tags follow the controllers' manuals and the server's nodes; alarm rules and reports are made
//! here. Packing is left for whoever tries the demo.

mod computed;
pub mod effluent;
mod messages;
mod weather;

use crate::{
    dryline::{
        self,
        nodes::{NAMESPACE, Node, nodes},
    },
    manual::{Entry, Manual, manuals},
    registers::Works,
    service::NAME as SERVICE,
    utilities::NAME as UTILITIES,
};
use havrel_core::plant::Kind;
use serde::Serialize;
use serde_json::{Value as Json, json};
use std::collections::HashMap;
use uuid::Uuid;

const SITE: &str = "Brackmere Kelp Works";

/// Something to be configured.
#[derive(Debug, Serialize)]
pub struct Made {
    pub kind: Kind,
    pub id: Uuid,
    pub set: Json,
}

#[derive(Default)]
struct Builder {
    items: Vec<Made>,
    /// Places by their path below the site.
    places: HashMap<String, Uuid>,
    /// Tags by place and name.
    tags: HashMap<(String, String), Uuid>,
    /// Sets of state names, by their names.
    states: HashMap<&'static str, Uuid>,
}

impl Builder {
    fn add(&mut self, kind: Kind, set: Json) -> Uuid {
        let id = Uuid::now_v7();
        self.items.push(Made { kind, id, set });
        id
    }

    fn set(&mut self, id: Uuid, field: &str, value: Json) {
        if let Some(item) = self.items.iter_mut().find(|item| item.id == id) {
            item.set[field] = value;
        }
    }

    /// The place at a path below the site, made with those above it.
    fn place(&mut self, path: &str) -> Uuid {
        if let Some(&id) = self.places.get(path) {
            return id;
        }
        let (parent, name) = match path.rsplit_once('/') {
            Some((above, name)) => (Some(self.place(above)), name),
            None if path.is_empty() => (None, SITE),
            None => (Some(self.place("")), path),
        };
        let level = match path {
            "" => "site",
            _ if !path.contains('/') => "area",
            "Landing/Reception hopper" | "Landing/Conveyor" | "Drying/Screw press" | "Drying/Mill" => "equipment",
            "Utilities/Boiler" | "Utilities/Air compressor" => "equipment",
            _ if path.starts_with("Utilities/Meter") => "device",
            "Effluent/Outlet" | "Effluent/Pump 1" => "equipment",
            _ if path.starts_with("Drying/Belt dryer/") => "equipment",
            _ => "unit",
        };
        let order = self.places.len();
        let id = self.add(Kind::Place, json!({"name": name, "level": level, "parent": parent, "order": order}));
        self.places.insert(path.to_owned(), id);
        id
    }

    /// The connection of that name.
    fn connection(&self, name: &str) -> Option<Uuid> {
        self.items.iter().find(|item| item.kind == Kind::Connection && item.set["name"] == name).map(|item| item.id)
    }

    fn tag(&self, place: &str, name: &str) -> Uuid {
        self.tags.get(&(place.to_owned(), name.to_owned())).copied().unwrap_or_default()
    }

    fn tags(&self, wanted: &[(&str, &str)]) -> Vec<Uuid> {
        wanted.iter().map(|(place, name)| self.tag(place, name)).collect()
    }

    fn add_tag(&mut self, connection: Uuid, order: usize, entry: &Entry, block: Option<&VesselBlock>) {
        let place = self.place(&entry.place);
        let mut point = point(entry);
        point["address"] = json!(entry.address);
        let member = block.and_then(|b| b.member(entry));
        if let Some(member) = &member {
            point = member.clone();
        }
        let mut set = json!({
            "name": entry.name, "place": place, "connection": connection, "point": point, "unit": entry.unit,
            "decimals": entry.decimals, "order": order, "record": true, "record_deadband": entry.deadband,
            "note": entry.note, "writable": entry.writable,
        });
        if let Some((low, high)) = entry.range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
        }
        if let Some(states) = states_of(self, entry.name) {
            set["states"] = json!(states);
        }
        if entry.tenths && member.is_none() {
            set["scaling"] = tenths();
        }
        let id = self.add(Kind::Tag, set);
        self.tags.insert((entry.place.clone(), entry.name.to_owned()), id);
    }
}

/// A set of state names: its name, how the tags end that use it, and the states.
type NamedStates = (&'static str, &'static str, &'static [(i64, &'static str)]);

const STATES: &[NamedStates] = &[
    ("Vessel phase", "Phase", &[(1, "Fill"), (2, "Heat"), (3, "Hold"), (4, "Discharge"), (5, "Rinse")]),
    ("Motor", "unning", &[(0, "Stopped"), (1, "Running")]),
    ("Valve", " open", &[(0, "Closed"), (1, "Open")]),
    ("Lock", "Enabled", &[(0, "Locked"), (1, "Enabled")]),
];

fn states(b: &mut Builder) {
    for (order, (name, _, states)) in STATES.iter().enumerate() {
        let states: Vec<Json> = states.iter().map(|(value, name)| json!({"value": value, "name": name})).collect();
        let id = b.add(Kind::States, json!({"name": name, "states": states, "order": order}));
        b.states.insert(name, id);
    }
}

fn tenths() -> Json {
    json!({"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0})
}

/// How an entry is read, without its address.
fn point(entry: &Entry) -> Json {
    let mut point = json!({"type": entry.kind});
    if entry.kind == "text" {
        point["length"] = json!(entry.length);
    }
    point
}

/// The registers that all extraction vessels have alike: one layout, mapped once with a stride.
struct VesselBlock {
    block: Uuid,
    /// Holding register from the beginning of a vessel, and the member there.
    members: HashMap<u16, Uuid>,
}

impl VesselBlock {
    /// Which vessel, from 0, and how far into it an entry lies; nothing where it is no vessel's holding register.
    fn place(entry: &Entry) -> Option<(u16, u16)> {
        let number: u16 = entry.place.strip_prefix("Extraction/EX-")?.parse().ok()?;
        let index = number.checked_sub(1)?;
        Some((index, entry.holding?.checked_sub(index.checked_mul(STRIDE)?)?))
    }

    fn member(&self, entry: &Entry) -> Option<Json> {
        let (index, offset) = VesselBlock::place(entry)?;
        let member = self.members.get(&offset)?;
        Some(json!({"block": self.block, "index": index, "member": [[member, 0]]}))
    }
}

/// Registers from one vessel to the next, as the manual of the controller says.
const STRIDE: u16 = 40;

/// Maps the vessels of a controller, if it has any.
fn vessel_block(b: &mut Builder, connection: Uuid, manual: &Manual) -> Option<VesselBlock> {
    let vessels = manual.points.iter().filter_map(|e| Some((e, VesselBlock::place(e)?)));
    let (first, count): (Vec<_>, u16) = vessels.fold((Vec::new(), 0), |(mut first, count), (entry, (index, offset))| {
        if index == 0 {
            first.push((entry, offset));
        }
        (first, count.max(index + 1))
    });
    if first.is_empty() {
        return None;
    }
    let mut members = HashMap::new();
    let mut told: Vec<(u16, Json)> = Vec::new();
    for (entry, offset) in first {
        let id = Uuid::now_v7();
        members.insert(offset, id);
        let mut member = json!({"id": id, "name": entry.name, "offset": offset, "point": point(entry), "unit": entry.unit, "decimals": entry.decimals});
        if let Some((low, high)) = entry.range {
            member["range_low"] = json!(low);
            member["range_high"] = json!(high);
        }
        if entry.tenths {
            member["scaling"] = tenths();
        }
        told.push((offset, member));
    }
    told.sort_by_key(|(offset, _)| *offset);
    let told: Vec<Json> = told.into_iter().map(|(_, member)| member).collect();
    let layout = b.add(
        Kind::Layout,
        json!({"name": "Extraction vessel", "note": "As the manual of the controller lists them.", "members": told}),
    );
    let block = Uuid::now_v7();
    // Whatever the manual counts from, its first holding register.
    let first = json!({"address": "4x00001"});
    let blocks = json!([{"id": block, "name": "Vessels", "layout": layout, "point": first, "count": count, "stride": STRIDE}]);
    b.set(connection, "blocks", blocks);
    Some(VesselBlock { block, members })
}

/// How Havrel itself fares, as tags at a place of their own, with an alarm before history could be lost.
fn figures(b: &mut Builder, manuals: &[Manual]) {
    let place = b.place("Control system");
    let connection = b.add(Kind::Connection, json!({"name": "Havrel itself", "kind": "figures"}));
    let mut rows = vec![
        ("Spool fill".to_owned(), json!({"figure": "spool_fill"}), "%", Some((0.0, 100.0))),
        ("Spool age".to_owned(), json!({"figure": "spool_age"}), "s", None),
        ("Samples lost".to_owned(), json!({"figure": "spool_lost"}), "", None),
        ("Bad tags".to_owned(), json!({"figure": "bad_tags"}), "", None),
    ];
    for manual in manuals {
        let of = b.connection(manual.controller);
        for (name, figure, unit) in
            [("round trip", "p95", "ms"), ("skipped polls", "overruns", ""), ("reconnects", "reconnects", "")]
        {
            rows.push((format!("{} {name}", manual.controller), json!({"figure": figure, "connection": of}), unit, None));
        }
    }
    for (order, (name, point, unit, range)) in rows.into_iter().enumerate() {
        let decimals = u8::from(!unit.is_empty());
        let mut set = json!({"name": name, "place": place, "connection": connection, "point": point, "unit": unit,
            "decimals": decimals, "order": order, "record": true, "record_deadband": if unit == "ms" { 0.2 } else { 0.0 }});
        if let Some((low, high)) = range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
        }
        let id = b.add(Kind::Tag, set);
        b.tags.insert(("Control system".into(), name), id);
    }
    rule(b, "Control system", &SPOOL);
}

/// The rule that warns before history could be lost.
const SPOOL: RuleRow<'static> = (
    "",
    "Spool fill",
    "high",
    50.0,
    5.0,
    10.0,
    3,
    "The database has been away for long, or its disk is slow.",
    "Bring the database back; what waits is stored by itself then.",
);

/// An alarm rule: place, tag, kind, limit, deadband, delay in seconds, priority, cause, action.
type RuleRow<'a> = (&'a str, &'a str, &'a str, f64, f64, f64, u8, &'a str, &'a str);

const RULES: &[RuleRow<'static>] = &[
    ("Landing/Reception hopper", "Level", "low", 18.0, 4.0, 10.0, 1, "The next lorry is late.", "Ask the yard; slow the belt."),
    (
        "Extraction/Leach vessel",
        "pH",
        "low",
        8.6,
        0.1,
        20.0,
        3,
        "Too little soda for the kelp that comes.",
        "Check the soda pump and the level of its tank.",
    ),
    (
        "Extraction/EX-1",
        "Level",
        "high",
        75.2,
        2.0,
        1.0,
        2,
        "Filling runs beyond its normal end.",
        "Compare the fill setpoint with the recipe.",
    ),
];

/// The rules that both wash tanks have.
const TANK_RULES: [RuleRow<'static>; 2] = [
    (
        "",
        "Filter pressure drop",
        "high",
        30.0,
        4.0,
        10.0,
        2,
        "The filter blinds with fine weed.",
        "Drain early and wash the filter backwards.",
    ),
    (
        "",
        "Pump tripped",
        "high",
        0.5,
        0.0,
        1.0,
        3,
        "The motor protection opened.",
        "Look for weed at the impeller, then reset the protection.",
    ),
];

/// The rule that every extraction vessel has, and the further one of the first.
const HOT: RuleRow<'static> = (
    "",
    "Temperature",
    "high",
    84.0,
    1.0,
    3.0,
    3,
    "The wall overheats and the batch browns.",
    "Close the heating valve and watch for three minutes.",
);
const FIRST: RuleRow<'static> = (
    "Extraction/EX-1",
    "Temperature",
    "high_high",
    90.0,
    1.0,
    3.0,
    4,
    "The heating valve hangs open.",
    "Lock the heating, then shut the steam by hand.",
);

/// The places of the dryer, whose nodes the demo has as tags.
const DRYING: &str = "Drying/";

/// The server of the dryer and what of it are tags.
fn drying(b: &mut Builder, port: u16) {
    let settings = json!({"url": format!("opc.tcp://127.0.0.1:{port}")});
    let set = json!({"name": dryline::NAME, "kind": "opcua", "writing": true, "settings": settings});
    let connection = b.add(Kind::Connection, set);
    let all: Vec<Node> = nodes().into_iter().filter(|node| node.place.starts_with(DRYING)).collect();
    for (order, node) in all.iter().enumerate() {
        let place = b.place(&node.place);
        let point = json!({"address": format!("nsu={NAMESPACE};s={}", node.id())});
        let mut set = json!({
            "name": node.name, "place": place, "connection": connection, "point": point, "unit": node.unit,
            "decimals": node.decimals, "order": order, "record": true, "record_deadband": node.deadband, "note": node.note,
            "writable": node.write.is_some(),
        });
        if let Some((low, high)) = node.range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
        }
        if let Some(states) = states_of(b, node.name) {
            set["states"] = json!(states);
        }
        let id = b.add(Kind::Tag, set);
        b.tags.insert((node.place.clone(), node.name.to_owned()), id);
    }
    for node in all.iter().filter(|node| !node.setpoint.is_empty()) {
        let (of, setpoint) = (b.tag(&node.place, node.name), b.tag(&node.place, node.setpoint));
        b.set(of, "setpoint", json!(setpoint));
    }
    DRYING_RULES.iter().for_each(|row| rule(b, row.0, row));
}

/// The set of state names for tags that end so.
fn states_of(b: &Builder, name: &str) -> Option<Uuid> {
    let (states, ..) = STATES.iter().find(|(_, ending, _)| name.ends_with(ending))?;
    b.states.get(states).copied()
}

const DRYING_RULES: &[RuleRow<'static>] = &[
    (
        "Drying/Belt dryer",
        "Product moisture",
        "high",
        12.0,
        0.3,
        30.0,
        3,
        "The bed is too deep, or a zone too cold.",
        "Slow the press, or raise the setpoint of zone 2.",
    ),
    (
        "Drying/Mill",
        "Vibration",
        "high",
        4.5,
        0.3,
        5.0,
        3,
        "Moist product cakes at the rotor, or a bearing wears.",
        "Stop the feed; let the mill run empty.",
    ),
    (
        "Drying/Screw press",
        "Torque",
        "high",
        85.0,
        5.0,
        5.0,
        2,
        "The cake is too dry or something hard came in.",
        "Slow the press.",
    ),
];

/// The plant as an engineer would have configured it, with its controllers on these ports of the loopback.
pub fn items(works: &Works, ports: &HashMap<&str, u16>) -> Vec<Made> {
    let manuals = &manuals(works);
    let mut b = Builder::default();
    states(&mut b);
    // In the order in which kelp goes through the plant, whatever order the manuals have.
    for path in ["", "Landing", "Landing/Reception hopper", "Landing/Conveyor", "Landing/Wash tank 1", "Landing/Wash tank 2"] {
        b.place(path);
    }
    for manual in manuals {
        let port = ports.get(manual.controller).copied().unwrap_or(502);
        let settings = json!({"host": "127.0.0.1", "port": port, "unit": 1, "base": manual.base, "order": manual.order});
        let set = json!({"name": manual.controller, "kind": "modbus", "writing": true, "settings": settings});
        let connection = b.add(Kind::Connection, set);
        let block = vessel_block(&mut b, connection, manual);
        manual.points.iter().enumerate().for_each(|(order, entry)| b.add_tag(connection, order, entry, block.as_ref()));
    }
    drying(&mut b, ports.get(dryline::NAME).copied().unwrap_or(4840));
    messages::utilities(&mut b, ports.get(UTILITIES).copied().unwrap_or(1883));
    effluent::station(&mut b, ports.get(UTILITIES).copied().unwrap_or(1883));
    weather::service(&mut b, ports.get(SERVICE).copied().unwrap_or(80));
    figures(&mut b, manuals);
    computed::computed(&mut b);
    for entry in manuals.iter().flat_map(|m| &m.points).filter(|e| !e.setpoint.is_empty()) {
        let (of, setpoint) = (b.tag(&entry.place, entry.name), b.tag(&entry.place, entry.setpoint));
        b.set(of, "setpoint", json!(setpoint));
    }
    let mut vessels: Vec<String> = b.places.keys().filter(|p| p.starts_with("Extraction/EX-")).cloned().collect();
    vessels.sort();
    for row in RULES.iter().chain([&FIRST]) {
        rule(&mut b, row.0, row);
    }
    for tank in ["Landing/Wash tank 1", "Landing/Wash tank 2"] {
        TANK_RULES.iter().for_each(|row| rule(&mut b, tank, row));
    }
    vessels.iter().for_each(|vessel| rule(&mut b, vessel, &HOT));
    reports(&mut b, &vessels);
    b.items
}

fn rule(b: &mut Builder, place: &str, row: &RuleRow<'_>) {
    let &(_, name, kind, level, deadband, delay, priority, cause, action) = row;
    let tag = b.tag(place, name);
    b.add(
        Kind::Rule,
        json!({"tag": tag, "kind": kind, "level": level, "deadband": deadband, "on_delay_s": delay, "priority": priority,
               "cause": cause, "action": action}),
    );
}

fn reports(b: &mut Builder, vessels: &[String]) {
    let of = |b: &Builder, name: &str| -> Vec<Uuid> { vessels.iter().map(|vessel| b.tag(vessel, name)).collect() };
    let mut summary = b.tags(&[
        ("Landing/Reception hopper", "Weight"),
        ("Landing/Conveyor", "Kelp flow"),
        ("Landing/Wash tank 1", "Turbidity"),
        ("Landing/Wash tank 2", "Turbidity"),
        ("Extraction/Leach vessel", "Temperature"),
        ("Extraction/Leach vessel", "pH"),
        ("Extraction/Leach vessel", "Soda flow"),
    ]);
    summary.extend(of(b, "Temperature"));
    let landing = b.tags(&[
        ("Landing/Conveyor", "Kelp flow"),
        ("Landing/Wash tank 1", "Filter pressure drop"),
        ("Landing/Wash tank 2", "Filter pressure drop"),
    ]);
    let temperatures = of(b, "Temperature");
    let site = b.place("");
    let sections = json!([
        {"kind": "text", "text": "What came in, how it was washed and extracted, and what was wrong."},
        {"kind": "summary", "tags": summary},
        {"kind": "trend", "tags": landing},
        {"kind": "trend", "tags": temperatures},
        {"kind": "alarms"},
    ]);
    b.add(Kind::Report, json!({"name": "Shift summary", "place": site, "minutes": 480, "sections": sections, "order": 0}));
    let Some(vessel) = vessels.first() else { return };
    let place = b.place(vessel);
    let names = ["Level", "Temperature", "pH", "Agitator speed", "Agitator current", "Heating valve"];
    let all: Vec<Uuid> = names.iter().map(|name| b.tag(vessel, name)).collect();
    let sections = json!([
        {"kind": "text", "text": "One vessel over its last runs: filling, heating, holding, discharge and rinse."},
        {"kind": "trend", "tags": &all[..3]},
        {"kind": "summary", "tags": all},
        {"kind": "alarms"},
    ]);
    let label = json!([{"kind": "values", "tags": b.tags(&[
        ("Extraction/EX-1", "Run"), ("Extraction/EX-1", "Temperature"), ("Extraction/EX-1", "pH"), ("Extraction/EX-1", "Level"),
    ])}]);
    let vessel = b.place("Extraction/EX-1");
    let size = json!({"width": 80, "height": 50});
    b.add(
        Kind::Report,
        json!({"name": "Sample label EX-1", "place": vessel, "minutes": 1, "sections": label, "label": size, "order": 2}),
    );
    b.add(Kind::Report, json!({"name": "Vessel run", "place": place, "minutes": 30, "sections": sections, "order": 1}));
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::{Plant, Stored};

    #[test]
    fn the_configuration_is_whole_and_names_nothing_that_is_not_there() {
        let items = items(&Works::new(4, 2611), &HashMap::from([("Extraction", 5020), ("Wash", 5021)]));
        let count = items.len();
        let stored = items.into_iter().enumerate().map(|(no, made)| Stored {
            kind: made.kind,
            id: made.id,
            no: no as u32 + 1,
            revision: 1,
            own: made.set.as_object().unwrap().clone(),
        });
        let (plant, broken) = Plant::from_stored(1, stored.collect());
        assert!(broken.is_empty(), "{broken:?}");
        assert_eq!(Kind::ALL.iter().map(|&kind| plant.ids(kind).len()).sum::<usize>(), count);
        for tag in plant.tags.values() {
            let path = plant.tag_path(&tag.set);
            assert!(plant.places.contains_key(&tag.set.place), "{path}");
            match &tag.set.formula {
                Some(formula) => assert!(plant.program(formula, &tag.set.unit).is_ok(), "{path}"),
                None => {
                    let connection = &plant.connections[&tag.set.connection.unwrap()];
                    assert!(plant.source(&connection.set, &tag.set).is_ok(), "{path}");
                }
            }
            assert!(tag.set.setpoint.is_none_or(|of| plant.tags.contains_key(&of)), "{path}");
        }
        assert!(plant.rules.values().all(|rule| plant.tags.contains_key(&rule.set.tag)));
        let shown = plant.reports.values().flat_map(|report| &report.set.sections).flat_map(|section| section.tags());
        assert!(shown.count() > 20);
        assert_eq!(plant.connections.values().filter(|c| c.set.settings.get("port") == Some(&json!(5020))).count(), 1);
    }
}
