//! A lookup of everything that is stored, read block by block and written as CSV, against PostgreSQL that copies the same rows out.

use crate::{Figures, Result, load::memory};
use futures_util::TryStreamExt as _;
use havrel_core::{
    lookup::{Lookup, Table},
    plant::{Kind, Plant, Stored},
    time::Nanos,
};
use havrel_db::Db;
use havrel_jobs::lookup::{LookupFile, Made, Reader};
use serde_json::json;
use sqlx::PgConnection;
use std::{sync::Arc, time::Instant};
use uuid::Uuid;

/// Rows that are read at once, as the server does.
const BLOCK: usize = 5000;

/// A plant with so many tags in one place, known by the numbers from 1 on.
fn plant(tags: u32) -> Result<Plant> {
    let place = Uuid::from_u128(1_000_000);
    let item = |kind, id: Uuid, no: u32, own: serde_json::Value| {
        let own = own.as_object().cloned().unwrap_or_default();
        Stored { kind, id, no, revision: 1, own }
    };
    let mut items = vec![item(Kind::Place, place, 0, json!({"name": "Bench"}))];
    for no in 1..=tags {
        let own = json!({"name": format!("Level {no}"), "place": place});
        items.push(item(Kind::Tag, Uuid::from_u128(no.into()), no, own));
    }
    let (plant, broken) = Plant::from_stored(1, items);
    if broken.is_empty() { Ok(plant) } else { Err(format!("the plant is broken: {broken:?}").into()) }
}

/// Reads `rows` rows of the first `tags` tags in `0..to`, and prints how that compares with the table `plain`.
pub async fn measure(figures: &mut Figures, db: &Db, sql: &mut PgConnection, tags: u32, to: Nanos, rows: f64) -> Result<()> {
    let plant = Arc::new(plant(tags)?);
    let all: Vec<Uuid> = (1..=tags).map(|no| Uuid::from_u128(no.into())).collect();
    let period = json!({"from": "1970-01-01T00:00:00Z", "to": havrel_core::time::to_text(to)});
    let lookup: Lookup = serde_json::from_value(json!({"tags": all, "shape": "long", "period": period}))?;
    let table = Table::of(&plant, lookup, to).map_err(|wrong| format!("the lookup is wrong: {wrong:?}"))?;
    let table = Arc::new(table);
    let before = memory(std::process::id()).0;
    let mut most = before;
    let began = Instant::now();
    let mut file = LookupFile::begin(Made::Csv, std::io::sink(), plant.clone(), table.clone())?;
    let reader = Reader::new(db, &plant, &table, to);
    let mut place = None;
    let mut first = 0.0;
    loop {
        let block = reader.read(place, BLOCK).await?;
        if place.is_none() {
            first = began.elapsed().as_secs_f64();
        }
        file.write(&block.rows)?;
        most = most.max(memory(std::process::id()).0);
        place = block.next;
        if place.is_none() {
            break;
        }
    }
    let read = file.rows() as f64;
    assert!((read - rows).abs() < 0.5, "{read} rows were read of {rows}");
    file.end()?;
    let ours = rows / began.elapsed().as_secs_f64();
    let began = Instant::now();
    let copy = "copy (select to_timestamp(at / 1e9), tag, bits, quality from plain order by at, tag) to stdout with (format csv)";
    let mut bytes = 0;
    let mut sent = sql.copy_out_raw(copy).await?;
    while let Some(part) = sent.try_next().await? {
        bytes += part.len();
    }
    drop(sent);
    assert!(bytes > 0);
    let limit = rows / began.elapsed().as_secs_f64();
    figures.ratio("lookup: rows read in order and written as CSV, against COPY of the same", ours, limit, "rows/s", None);
    figures.add("lookup: until the first 5,000 rows are there", first * 1000.0, "ms", None);
    figures.add("lookup: memory that it takes, at most", most - before, "MB", None);
    Ok(())
}
