//! The demo plant's configuration and past: areas Landing and Extraction of Brackmere Kelp Works on the simulated
//! controllers. Connections and tags follow the controllers' manuals; alarm rules and reports are made here.

use crate::standin::{Entry, Failure, Manual, Past, Standin};
use havrel_core::{
    frame::Frame,
    plant::{Edit, Item, Kind, Op, Own, Table, Tag},
    time::{Nanos, SECOND},
};
use havrel_db::config::{By, CommitError};
use havrel_link::modbus::{Address, Table as Space};
use havrel_live::{Live, now};
use serde_json::{Value as Json, json};
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

const SITE: &str = "Brackmere Kelp Works";

fn by(why: &str) -> By {
    By { account: None, actor: "Havrel".into(), why: why.into(), undoes: None }
}

#[derive(Default)]
struct Builder {
    edits: Vec<Edit>,
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
        let own = match set {
            Json::Object(own) => own,
            _ => Own::default(),
        };
        self.edits.push(Edit { kind, id, op: Op::Create(own, None), seen: None });
        id
    }

    fn set(&mut self, id: Uuid, field: &str, value: Json) {
        for edit in &mut self.edits {
            if let Op::Create(own, _) = &mut edit.op
                && edit.id == id
            {
                own.insert(field.into(), value.clone());
            }
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
            "Landing/Reception hopper" | "Landing/Conveyor" => "equipment",
            _ => "unit",
        };
        let order = self.places.len();
        let id = self.add(Kind::Place, json!({"name": name, "level": level, "parent": parent, "order": order}));
        self.places.insert(path.to_owned(), id);
        id
    }

    /// The connection of that name.
    fn connection(&self, name: &str) -> Option<Uuid> {
        let named = |own: &Own| own.get("name").and_then(Json::as_str) == Some(name);
        let found = self.edits.iter().find(|e| e.kind == Kind::Connection && matches!(&e.op, Op::Create(own, _) if named(own)));
        found.map(|e| e.id)
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
        let named = STATES.iter().find(|(_, ending, _)| entry.name.ends_with(ending));
        if let Some(states) = named.and_then(|(name, ..)| self.states.get(name)) {
            set["states"] = json!(states);
        }
        if entry.tenths && member.is_none() {
            set["scaling"] = tenths();
        }
        let id = self.add(Kind::Tag, set);
        self.tags.insert((entry.place.clone(), entry.name.clone()), id);
    }
}

/// A set of state names: its name, how the tags end that use it, and the states.
type NamedStates = (&'static str, &'static str, &'static [(i64, &'static str)]);

const STATES: &[NamedStates] = &[
    ("Vessel phase", "Phase", &[(1, "Fill"), (2, "Heat"), (3, "Hold"), (4, "Discharge"), (5, "Rinse")]),
    ("Motor", " running", &[(0, "Stopped"), (1, "Running")]),
    ("Valve", " open", &[(0, "Closed"), (1, "Open")]),
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
    base: u16,
    /// Holding register from the beginning of a vessel, and the member there.
    members: HashMap<u16, Uuid>,
}

impl VesselBlock {
    /// Which vessel, from 0, and how far into it an entry lies; nothing where it is no vessel's holding register.
    fn place(base: u16, entry: &Entry) -> Option<(u16, u16)> {
        let number: u16 = entry.place.strip_prefix("Extraction/EX-")?.parse().ok()?;
        let address = Address::parse(&entry.address, base).ok().filter(|a| a.table == Space::Holding)?;
        let index = number.checked_sub(1)?;
        Some((index, address.offset.checked_sub(index.checked_mul(STRIDE)?)?))
    }

    fn member(&self, entry: &Entry) -> Option<Json> {
        let (index, offset) = VesselBlock::place(self.base, entry)?;
        let member = self.members.get(&offset)?;
        Some(json!({"block": self.block, "index": index, "member": [[member, 0]]}))
    }
}

/// Registers from one vessel to the next, as the manual of the controller says.
const STRIDE: u16 = 40;

/// Maps the vessels of a controller, if it has any.
fn vessel_block(b: &mut Builder, connection: Uuid, manual: &Manual) -> Option<VesselBlock> {
    let base = manual.base;
    let vessels = manual.points.iter().filter_map(|e| Some((e, VesselBlock::place(base, e)?)));
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
    Some(VesselBlock { block, base, members })
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
        let of = b.connection(&manual.controller);
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

/// Gives an untouched plant the demo's configuration; a plant that has any is left alone. Gives whether it was built.
///
/// # Errors
/// The database's own.
pub async fn build(live: &Arc<Live>, manuals: &[Manual], standin: &Standin) -> Result<bool, CommitError> {
    if live.plant().revision > 0 {
        return Ok(false);
    }
    let mut b = Builder::default();
    states(&mut b);
    // In the order in which kelp goes through the plant, whatever order the manuals have.
    for path in ["", "Landing", "Landing/Reception hopper", "Landing/Conveyor", "Landing/Wash tank 1", "Landing/Wash tank 2"] {
        b.place(path);
    }
    for manual in manuals {
        let port = standin.controllers.iter().find(|(name, _)| *name == manual.controller).map_or(502, |(_, port)| *port);
        let settings = json!({"host": "127.0.0.1", "port": port, "unit": 1, "base": manual.base, "order": manual.order});
        let set = json!({"name": manual.controller, "kind": "modbus", "writing": true, "settings": settings});
        let connection = b.add(Kind::Connection, set);
        let block = vessel_block(&mut b, connection, manual);
        manual.points.iter().enumerate().for_each(|(order, entry)| b.add_tag(connection, order, entry, block.as_ref()));
    }
    figures(&mut b, manuals);
    for entry in manuals.iter().flat_map(|m| &m.points).filter(|e| !e.setpoint.is_empty()) {
        let (of, setpoint) = (b.tag(&entry.place, &entry.name), b.tag(&entry.place, &entry.setpoint));
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
    live.commit(&b.edits, &by("Built the demo plant")).await.map(|_| true)
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

/// Points the demo's connections at the ports on which their controllers listen now.
///
/// # Errors
/// The database's own.
pub async fn follow_ports(live: &Arc<Live>, standin: &Standin) -> Result<(), CommitError> {
    let plant = live.plant();
    let mut edits = Vec::new();
    for (name, port) in &standin.controllers {
        let moved = plant.connections.values().find(|c| {
            c.set.name == *name
                && c.set.settings.get("host") == Some(&json!("127.0.0.1"))
                && c.set.settings.get("port") != Some(&json!(port))
        });
        let Some(connection) = moved else { continue };
        let mut settings = connection.set.settings.clone();
        settings.insert("port".into(), json!(port));
        let patch = [("settings".to_owned(), Json::Object(settings))].into_iter().collect();
        edits.push(Edit { kind: Kind::Connection, id: connection.id, op: Op::Patch(patch), seen: None });
    }
    if edits.is_empty() {
        return Ok(());
    }
    live.commit(&edits, &by("Followed the simulated controllers to their new ports")).await.map(drop)
}

/// Samples that go into history in one step.
const STEP: usize = 20_000;

/// Loads the demo's made-up past through the import, newest first, as a job that can be watched and cancelled.
pub async fn load_past(live: Arc<Live>, hours: f64, until: Nanos) {
    let span = (hours * 3600.0) as u64;
    let job = live.jobs.begin("Loading the recorded past", span);
    let mut loaded = 0;
    let result = async {
        let items = items(&live);
        let mut past = Past::ask(hours, &json!({"node": Uuid::now_v7(), "until": until, "items": items})).await?;
        let mut step: Vec<Frame> = Vec::new();
        loop {
            let frame = past.next().await?;
            let ends = frame.is_none();
            step.extend(frame);
            let samples: usize = step.iter().map(|f| f.batch.samples.len()).sum();
            if samples >= STEP || (ends && samples > 0) {
                live.import(&step).await?;
                loaded += samples;
                let reached = step.last().map_or(until, |f| f.arrived);
                job.reach(((until - reached) / SECOND).unsigned_abs());
                step.clear();
            }
            if ends || job.cancelled() {
                return Ok::<_, Failure>(ends);
            }
        }
    };
    let title = match result.await {
        Ok(true) => format!("Loaded the recorded past: {loaded} samples of {hours} h"),
        Ok(false) => format!("Loading the recorded past was cancelled after {loaded} samples"),
        Err(error) => {
            tracing::warn!(%error, "the demo's past could not be loaded");
            format!("The recorded past could not be loaded: {error}")
        }
    };
    let took = (now() - until) / SECOND;
    live.remark("system", None, None, &title, json!({"samples": loaded, "seconds": took})).await;
}

/// A point in a block as one with an address of its own, as the manual of the controller writes it.
fn plain(point: &Own, settings: &Own) -> Own {
    let mut plain = point.clone();
    let Some(offset) = plain.remove("offset").and_then(|o| o.as_u64()) else { return plain };
    let base = settings.get("base").and_then(Json::as_u64).unwrap_or(1);
    let text = point.get("address").and_then(Json::as_str).unwrap_or_default();
    if let Ok(first) = Address::parse(text, u16::try_from(base).unwrap_or(1)) {
        let address = format!("{} {}", first.table.word(), u64::from(first.offset) + offset);
        plain.insert("address".into(), address.into());
    }
    plain
}

/// The configuration as the simulated plant reads it.
fn items(live: &Arc<Live>) -> Vec<Json> {
    fn of<T>(kind: Kind, table: &Table<T>) -> impl Iterator<Item = Json> {
        table.values().map(move |i: &Arc<Item<T>>| json!({"kind": kind, "id": i.id, "no": i.no, "set": i.own}))
    }
    let plant = live.plant();
    let places = of(Kind::Place, &plant.places).chain(of(Kind::Connection, &plant.connections));
    // It knows addresses, not blocks.
    let tag = |tag: &Arc<Item<Tag>>| {
        let mut own = tag.own.clone();
        if let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id))
            && let Ok(source) = plant.source(&connection.set, &tag.set)
        {
            own.insert("point".into(), json!(plain(&source.point, &connection.set.settings)));
            own.insert("scaling".into(), json!(source.scaling));
        }
        json!({"kind": Kind::Tag, "id": tag.id, "no": tag.no, "set": own})
    };
    places.chain(plant.tags.values().map(tag)).chain(of(Kind::Rule, &plant.rules)).collect()
}
