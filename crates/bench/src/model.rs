//! The model: a plant of many places and tags that is filtered, changed, written out and read back.

use crate::{Figures, Result, rate};
use havrel_core::plant::{
    Edit, Kind, Op, Plant, Stored, edit,
    table::Reader,
    view::{Now, TagQuery, TagView},
};
use havrel_jobs::sheet::{self, Mark};
use havrel_link::Kinds;
use serde_json::json;
use std::time::Instant;
use uuid::Uuid;

const PLACES: u128 = 50_000;
const TAGS: u128 = 100_000;

/// Units of ten under areas of a hundred, and tags spread over them.
fn plant() -> Plant {
    let item = |kind, id: u128, no: u32, set: serde_json::Value| {
        let own = set.as_object().cloned().unwrap_or_default();
        Stored { kind, id: Uuid::from_u128(id), no, revision: 1, own }
    };
    let mut stored = vec![item(Kind::Place, 1, 0, json!({"name": "Bench", "level": "site"}))];
    for n in 2..=PLACES {
        // The first hundred are areas, the next ones lie in them.
        let parent = if n <= 101 { 1 } else { 2 + n % 100 };
        let set = json!({"name": format!("P-{n}"), "parent": Uuid::from_u128(parent), "order": n as f64});
        stored.push(item(Kind::Place, n, 0, set));
    }
    for n in 0..TAGS {
        let set = json!({"name": format!("Level {n}"), "place": Uuid::from_u128(2 + n % (PLACES - 1)), "unit": "%",
            "range_low": 0.0, "range_high": 100.0, "record": n % 2 == 0, "order": n as f64});
        stored.push(item(Kind::Tag, 1_000_000 + n, n as u32 + 1, set));
    }
    Plant::from_stored(1, stored).0
}

/// How long something takes, in milliseconds: the middle one of five.
fn middle<T>(mut once: impl FnMut() -> T) -> f64 {
    let mut took: Vec<f64> = (0..5)
        .map(|_| {
            let began = Instant::now();
            std::hint::black_box(once());
            began.elapsed().as_secs_f64() * 1000.0
        })
        .collect();
    took.sort_by(f64::total_cmp);
    took[2]
}

/// Prints the figures of the model.
///
/// # Errors
/// When a file that was just written cannot be read.
pub fn measure(figures: &mut Figures) -> Result<()> {
    let plant = plant();
    let now = Now::default();
    let query = || TagQuery { words: "p-77 level".into(), ..TagQuery::default() };
    let each = |found: usize| {
        std::hint::black_box(found);
        TAGS as usize
    };
    let ours = rate(|| each(TagView::of(&plant, query(), &now).len()));
    let names: Vec<(String, String)> =
        plant.tags.values().map(|t| (plant.path(Some(t.set.place)).to_lowercase(), t.set.name.to_lowercase())).collect();
    let holds = |(path, name): &&(String, String)| ["p-77", "level"].iter().all(|w| path.contains(w) || name.contains(w));
    let plain = rate(|| each(names.iter().filter(holds).count()));
    figures.ratio("model: tags filtered and put in order, against words sought in ready texts", ours, plain, "tags/s", None);

    let patch = |field: &str, value: serde_json::Value| {
        let op = Op::Patch([(field.to_owned(), value)].into_iter().collect());
        [Edit { kind: Kind::Place, id: Uuid::from_u128(500), op, seen: None }]
    };
    let edits = patch("parent", json!(Uuid::from_u128(7)));
    let moved = middle(|| edit::apply(&plant, &edits, &Kinds, || 0).is_ok());
    let copied = middle(|| (*plant.places).clone());
    figures.add("model: one place moved among 50,000 with 100,000 tags", moved, "ms", Some("< 100 ms"));
    figures.add("  the limit beside it: the list of places copied", copied, "ms", None);
    figures.add("  ratio", moved / copied, "", None);

    let began = Instant::now();
    let bytes = sheet::write(&plant, Kind::Tag, None, Mark::Comma)?;
    let written = TAGS as f64 / began.elapsed().as_secs_f64();
    let reader = Reader::of(&plant, |_| true);
    let cells: Vec<Vec<String>> = plant.tags.keys().map(|&id| reader.cells(Kind::Tag, id)).collect();
    let began = Instant::now();
    let mut out = csv::Writer::from_writer(Vec::with_capacity(bytes.len()));
    cells.iter().try_for_each(|row| out.write_record(row))?;
    std::hint::black_box(out.into_inner().map_err(|e| e.into_error())?);
    let plain = TAGS as f64 / began.elapsed().as_secs_f64();
    figures.ratio("model: rows written as CSV, against ready cells written", written, plain, "rows/s", None);

    let compared = |bytes: &[u8]| -> Result<f64> {
        let began = Instant::now();
        let file = sheet::read(bytes, Kind::Tag).map_err(|wrong| format!("{wrong:?}"))?;
        let plan = sheet::compare(&plant, Kind::Tag, &file, None, &Kinds, &mut Uuid::now_v7, &mut |_| true);
        plan.map_err(|e| format!("{e:?}"))?;
        Ok(began.elapsed().as_secs_f64())
    };
    let same = compared(&bytes)?;
    let text = String::from_utf8(bytes)?.replace(",%,", ",mm,");
    let all = compared(text.as_bytes())?;
    let began = Instant::now();
    std::hint::black_box(csv::Reader::from_reader(text.as_bytes()).records().count());
    let plain = TAGS as f64 / began.elapsed().as_secs_f64();
    figures.ratio(
        "model: rows read and compared where none differs, against rows read",
        TAGS as f64 / same,
        plain,
        "rows/s",
        None,
    );
    figures.ratio("model: rows read and compared where all differ, against rows read", TAGS as f64 / all, plain, "rows/s", None);
    figures.add("model: 100,000 rows compared where all differ", all, "s", Some("< 30 s with taking in"));
    Ok(())
}
