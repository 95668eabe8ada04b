//! The demo plant's configuration: area Extraction of Brackmere Kelp Works on the simulated controller.

use havrel_core::plant::{Edit, Kind, Op};
use havrel_db::config::{By, CommitError};
use havrel_live::Live;
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// The connection the demo's controller is known by.
const CONTROLLER: &str = "Extraction";

/// Registers from one vessel to the next, and bits.
const STRIDE: u16 = 40;
const BITS: u16 = 8;

fn by(why: &str) -> By {
    By { account: None, actor: "Havrel".into(), why: why.into(), undoes: None }
}

struct Builder(Vec<Edit>);

impl Builder {
    fn add(&mut self, kind: Kind, set: Json) -> Uuid {
        let id = Uuid::now_v7();
        let own = match set {
            Json::Object(own) => own,
            _ => Default::default(),
        };
        self.0.push(Edit { kind, id, op: Op::Create(own, None), seen: None });
        id
    }

    fn set(&mut self, id: Uuid, field: &str, value: Json) {
        for edit in &mut self.0 {
            if let Op::Create(own, _) = &mut edit.op
                && edit.id == id
            {
                own.insert(field.into(), value.clone());
            }
        }
    }
}

/// What a register block holds: offset, type, name, engineering unit, decimals, range, and whether it is a tenth.
type Row = (u16, &'static str, &'static str, &'static str, u8, Option<(f64, f64)>, bool);

const BLOCK: &[Row] = &[
    (0, "u16", "Level", "%", 1, Some((0.0, 100.0)), true),
    (2, "f32", "Temperature", "°C", 1, Some((0.0, 120.0)), false),
    (4, "f32", "pH", "", 2, Some((4.0, 12.0)), false),
    (6, "f32", "Agitator speed", "rpm", 1, Some((0.0, 90.0)), false),
    (8, "f32", "Agitator current", "A", 1, Some((0.0, 30.0)), false),
    (10, "u16", "Heating valve", "%", 1, Some((0.0, 100.0)), true),
    (11, "i16", "Temperature setpoint", "°C", 1, Some((20.0, 95.0)), true),
    (12, "u16", "Agitator setpoint", "rpm", 1, Some((0.0, 90.0)), true),
    (13, "u16", "Fill setpoint", "%", 1, Some((20.0, 95.0)), true),
    (1, "u16", "Phase", "", 0, None, false),
    (16, "text", "Run", "", 0, None, false),
    (24, "text", "Grade", "", 0, None, false),
];

/// Gives an untouched plant the demo's configuration; a plant that has any is left alone.
///
/// # Errors
/// The database's own.
pub async fn build(live: &Live, port: u16) -> Result<(), CommitError> {
    if live.plant().revision > 0 {
        return Ok(());
    }
    let mut b = Builder(Vec::new());
    let site = b.add(Kind::Place, json!({"name": "Brackmere Kelp Works", "level": "site"}));
    let area = b.add(Kind::Place, json!({"name": "Extraction", "level": "area", "parent": site, "order": 1}));
    let settings = json!({"host": "127.0.0.1", "port": port, "unit": 1, "base": 0});
    let connection =
        b.add(Kind::Connection, json!({"name": CONTROLLER, "kind": "modbus_tcp", "writing": true, "settings": settings}));
    let mut shown = Vec::new();
    for n in 0..2u16 {
        shown.extend(vessel(&mut b, area, connection, n));
    }
    let sections = json!([
        {"kind": "text", "text": "Levels, temperatures and alarms of the extraction vessels."},
        {"kind": "summary", "tags": shown},
        {"kind": "trend", "tags": shown},
        {"kind": "alarms"},
    ]);
    b.add(Kind::Report, json!({"name": "Extraction, last 15 minutes", "place": area, "minutes": 15, "sections": sections}));
    live.commit(&b.0, &by("Built the demo plant")).await.map(drop)
}

/// One vessel; gives its level and temperature.
fn vessel(b: &mut Builder, area: Uuid, connection: Uuid, n: u16) -> Vec<Uuid> {
    let unit = b.add(Kind::Place, json!({"name": format!("EX-{}", n + 1), "level": "unit", "parent": area, "order": n + 1}));
    let mut ids: Vec<(&str, Uuid)> = Vec::new();
    for (order, &(offset, kind, name, eu, decimals, range, tenth)) in BLOCK.iter().enumerate() {
        let length = if name == "Run" { 8 } else { 2 };
        let point = match kind {
            "text" => json!({"address": format!("holding {}", n * STRIDE + offset), "type": kind, "length": length}),
            _ => json!({"address": format!("holding {}", n * STRIDE + offset), "type": kind}),
        };
        let mut set = json!({
            "name": name, "place": unit, "connection": connection, "point": point, "unit": eu, "decimals": decimals,
            "order": order, "record": true, "record_deadband": if range.is_some() { 0.1 } else { 0.0 },
        });
        if let Some((low, high)) = range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
        }
        if tenth {
            set["scaling"] = json!({"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0});
        }
        if name.ends_with("setpoint") {
            set["writable"] = json!(true);
        }
        if name == "Phase" {
            set["note"] = json!("1 fill, 2 heat, 3 hold, 4 discharge, 5 rinse");
        }
        ids.push((name, b.add(Kind::Tag, set)));
    }
    for (bit, table, name, writable) in [
        (0, "coil", "Heating allowed", true),
        (1, "coil", "Agitator on", true),
        (0, "discrete", "Inlet open", false),
        (1, "discrete", "Outlet open", false),
    ] {
        let point = json!({"address": format!("{table} {}", n * BITS + bit), "type": "bool"});
        let order = BLOCK.len() as u16 + bit + if writable { 0 } else { 2 };
        b.add(Kind::Tag, json!({"name": name, "place": unit, "connection": connection, "point": point, "order": order, "writable": writable, "record": true}));
    }
    let find = |name: &str| ids.iter().find(|(n, _)| *n == name).map_or(Uuid::nil(), |(_, id)| *id);
    for (of, setpoint) in
        [("Level", "Fill setpoint"), ("Temperature", "Temperature setpoint"), ("Agitator speed", "Agitator setpoint")]
    {
        b.set(find(of), "setpoint", json!(find(setpoint)));
    }
    // EX-1 fills a little beyond its limit in every run, so that there is something to see; the others speak when something is wrong.
    let full = if n == 0 { 72.0 } else { 80.0 };
    for (of, kind, level, deadband, delay, priority, cause, action) in [
        ("Level", "high", full, 2.0, 1.0, 2, "Filling runs beyond its normal end.", "Compare the fill setpoint with the recipe."),
        (
            "Temperature",
            "high",
            84.0,
            1.0,
            3.0,
            3,
            "The wall overheats and the batch browns.",
            "Close the heating valve and watch for three minutes.",
        ),
        (
            "Temperature",
            "high_high",
            90.0,
            1.0,
            3.0,
            4,
            "The heating valve hangs open.",
            "Lock the heating, then shut the steam by hand.",
        ),
        (
            "Agitator current",
            "high",
            13.2,
            0.8,
            3.0,
            1,
            "Weed at the shaft, or liquor too thick.",
            "Lower the agitator setpoint to 35 rpm.",
        ),
    ] {
        b.add(
            Kind::Rule,
            json!({"tag": find(of), "kind": kind, "level": level, "deadband": deadband, "on_delay_s": delay, "priority": priority, "cause": cause, "action": action}),
        );
    }
    vec![find("Level"), find("Temperature")]
}

/// Points the demo's connection at the port on which its controller listens now.
///
/// # Errors
/// The database's own.
pub async fn follow_port(live: &Live, port: u16) -> Result<(), CommitError> {
    let plant = live.plant();
    let moved = plant.connections.values().find(|c| {
        c.set.name == CONTROLLER
            && c.set.settings.get("host") == Some(&json!("127.0.0.1"))
            && c.set.settings.get("port") != Some(&json!(port))
    });
    let Some(connection) = moved else { return Ok(()) };
    let mut settings = connection.set.settings.clone();
    settings.insert("port".into(), json!(port));
    let patch = [("settings".to_owned(), Json::Object(settings))].into_iter().collect();
    let edit = Edit { kind: Kind::Connection, id: connection.id, op: Op::Patch(patch), seen: None };
    live.commit(&[edit], &by("Followed the simulated controller to its new port")).await.map(drop)
}
