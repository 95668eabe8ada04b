//! Equipment classes: a thousand instances made at once, and a change of their class told and worked out, among 100,000 tags.

use crate::{Figures, Result};
use havrel_core::plant::{
    Edit, Kind, Op, Own, Plant, Stored, Tag, edit,
    instances::{difference::Difference, many::Row},
    resolve,
};
use havrel_link::Kinds;
use serde_json::{Value as Json, json};
use std::time::Instant;
use uuid::Uuid;

const INSTANCES: usize = 1_000;
const PROPERTIES: u128 = 20;
/// Tags that belong to no class.
const OTHERS: u128 = 80_000;

const CLASS: Uuid = Uuid::from_u128(1);
const BASE: Uuid = Uuid::from_u128(2);

fn own(set: Json) -> Own {
    set.as_object().cloned().unwrap_or_default()
}

/// What the class says of its properties: addresses, ranges, a limit on every fourth, a formula on every fifth.
fn properties(high: f64) -> Json {
    let property = |n: u128| {
        let rules = if n.is_multiple_of(4) {
            json!({(Uuid::from_u128(500 + n).to_string()): {"kind": "high", "level": 90.0}})
        } else {
            json!({})
        };
        let computed = n % 5 == 4;
        let mut tag = json!({"name": format!("Value {n}"), "unit": "%", "range_low": 0.0, "range_high": high, "order": n as f64, "record": true});
        if computed {
            tag["formula"] = json!({"text": format!("own(\"{}\") * 2", Uuid::from_u128(100 + n - 1))});
        } else {
            tag["connection"] = json!(Uuid::from_u128(3));
            tag["point"] = json!({"address": format!("holding [[Base + {n}]]"), "type": "u16"});
        }
        let kind = if computed { "computed" } else { "measured" };
        (Uuid::from_u128(100 + n).to_string(), json!({"kind": kind, "tag": tag, "rules": rules}))
    };
    Json::Object((0..PROPERTIES).map(property).collect())
}

fn plant() -> Plant {
    let item = |kind, id: Uuid, no: u32, set: Json| Stored { kind, id, no, revision: 1, own: own(set) };
    let parameters = json!({(BASE.to_string()): {"name": "Base", "kind": "number"}});
    let mut stored = vec![
        item(
            Kind::Connection,
            Uuid::from_u128(3),
            0,
            json!({"name": "Bench", "kind": "modbus", "settings": {"host": "127.0.0.1"}}),
        ),
        item(Kind::Class, CLASS, 0, json!({"name": "Vessel", "parameters": parameters, "properties": properties(100.0)})),
        item(Kind::Place, Uuid::from_u128(10), 0, json!({"name": "Area"})),
    ];
    for n in 0..OTHERS {
        let place = Uuid::from_u128(20 + n % 1000);
        if n < 1000 {
            stored.push(item(Kind::Place, place, 0, json!({"name": format!("P-{n}"), "parent": Uuid::from_u128(10)})));
        }
        let set = json!({"name": format!("Level {n}"), "place": place, "unit": "%"});
        stored.push(item(Kind::Tag, Uuid::from_u128(1_000_000 + n), n as u32 + 1, set));
    }
    Plant::from_stored(1, stored).0
}

/// Prints the figures of classes.
///
/// # Errors
/// When the edits are refused, which they are not.
pub fn measure(figures: &mut Figures) -> Result<()> {
    let plant = plant();
    let row = |n: usize| Row {
        name: format!("V-{n}"),
        place: "Area".into(),
        class: CLASS,
        cells: [(BASE, (n * 40 + 1).to_string())].into(),
    };
    let rows: Vec<Row> = (0..INSTANCES).map(row).collect();
    let refused = |problems: Vec<edit::Problem>| format!("{:?}", problems.first());
    let began = Instant::now();
    let edits = plant.equipment(&rows, Uuid::now_v7).map_err(|wrong| format!("{wrong:?}"))?;
    let mut no = 1_000_000;
    let number = || {
        no += 1;
        no
    };
    let (full, _) = edit::apply(&plant, &edits, &Kinds, number).map_err(refused)?;
    let made = began.elapsed().as_secs_f64();
    figures.add("classes: 1,000 instances of 20 properties worked out", made, "s", Some("< 10 s with storing"));

    let op = Op::Patch(own(json!({"properties": properties(120.0)})));
    let change = [Edit { kind: Kind::Class, id: CLASS, op, seen: None }];
    let began = Instant::now();
    let (next, changes) = edit::apply(&full, &change, &Kinds, || 0).map_err(refused)?;
    let worked = began.elapsed().as_secs_f64();
    let began = Instant::now();
    let difference = Difference::between(&full, &next);
    let told = began.elapsed().as_secs_f64();
    let changed: usize = difference.lines.iter().map(|line| line.items.len()).sum();
    if changed != INSTANCES * PROPERTIES as usize {
        return Err(format!("{changed} settings change").into());
    }
    let began = Instant::now();
    std::hint::black_box(full.absorb(next.revision, &changes)?);
    let followed = began.elapsed().as_secs_f64();
    // The limit beside it: as many settings read from JSON.
    let sets: Vec<Own> =
        next.tags.values().filter(|t| t.set.property.is_some()).map(|t| next.effective(Kind::Tag, t.id)).collect();
    let began = Instant::now();
    let read = sets.iter().filter(|set| resolve::<Tag>(None, set).is_ok()).count();
    let plain = began.elapsed().as_secs_f64();
    figures.add("classes: a change of the class over them worked out and checked", worked, "s", None);
    figures.add("  what changes told, with that", worked + told, "s", Some("< 1 s"));
    figures.add("  the same followed by another server", followed, "s", None);
    figures.add("  the limit beside it: as many settings read from JSON", plain, "s", None);
    figures.add("  ratio", worked / plain * read as f64 / sets.len() as f64, "", None);
    Ok(())
}
