//! History: frames stored, and questions answered, against plain SQL on the same rows.

use crate::{Figures, Result, lookup};
use havrel_core::{
    frame::Frame,
    quality::Quality,
    sample::{Batch, Value},
    time::{Nanos, SECOND},
};
use havrel_db::{Db, cluster::Cluster};
use sqlx::{Connection, PgConnection, Row};
use std::{fmt::Write, time::Instant};
use uuid::Uuid;

const TAGS: u32 = 8;
const SAMPLES: i64 = 86_400;
/// Seconds that one frame covers, for all tags.
const FRAME: i64 = 1250;

/// A level that fills and empties, with a little noise; never the same twice.
fn value(tag: u32, second: i64) -> f64 {
    let phase = (second % 900) as f64 / 900.0;
    50.0 + 40.0 * (phase * std::f64::consts::TAU).sin()
        + f64::from((second as u32).wrapping_mul(2_654_435_761 + tag) >> 20) / 4096.0
}

fn frames(node: Uuid, from: i64, to: i64, first: u64) -> Vec<Frame> {
    (from..to)
        .step_by(FRAME as usize)
        .enumerate()
        .map(|(i, start)| {
            let mut batch = Batch::default();
            for second in start..(start + FRAME).min(to) {
                for tag in 1..=TAGS {
                    batch.push(tag, second * SECOND, Quality::GOOD, 0, &Value::F64(value(tag, second)));
                }
            }
            Frame { batch, ..Frame::empty(node, 1, 0, first + i as u64, start * SECOND) }
        })
        .collect()
}

/// Prints how storing and asking compare with plain SQL.
pub async fn measure(figures: &mut Figures, cluster: &Cluster) -> Result<()> {
    cluster.ensure("bench_store", None).await?;
    let db = Db::open(cluster.options("bench_store")).await?;
    let node = db.identity().await?;
    let mut sql = PgConnection::connect_with(&cluster.options("bench_store")).await?;
    sqlx::query("create table plain (tag int, at bigint, bits float8, quality smallint)").execute(&mut sql).await?;

    let all = frames(node, 0, SAMPLES, 1);
    let rows = f64::from(TAGS) * SAMPLES as f64;
    let began = Instant::now();
    for frame in &all {
        db.append(std::slice::from_ref(frame)).await?;
    }
    let stored = rows / began.elapsed().as_secs_f64();
    let mut lines = Vec::new();
    for frame in &all {
        let mut text = String::new();
        for s in &frame.batch.samples {
            writeln!(text, "{}\t{}\t{}\t{}", s.tag, s.time, f64::from_bits(s.bits), s.quality.bits())?;
        }
        lines.push(text);
    }
    let began = Instant::now();
    for text in lines {
        let mut copy = sql.copy_in_raw("copy plain from stdin").await?;
        copy.send(text.into_bytes()).await?;
        copy.finish().await?;
    }
    let copied = rows / began.elapsed().as_secs_f64();
    figures.ratio("history: samples stored, against plain COPY without an index", stored, copied, "samples/s", None);
    sqlx::query("create index on plain (tag, at)").execute(&mut sql).await?;
    sqlx::query("analyze").execute(&mut sql).await?;

    let (from, to): (Nanos, Nanos) = (0, SAMPLES * SECOND);
    let mut seconds = [[0.0; 2]; 3];
    // Once to warm both, then what counts.
    for turn in 0..3 {
        let mut took = [[0.0; 2]; 3];
        let mut clock = Instant::now();
        let mut lap = |slot: &mut f64| {
            *slot = clock.elapsed().as_secs_f64();
            clock = Instant::now();
        };
        for tag in 1..=TAGS {
            let kept = db.raw(tag, from, to, false, SAMPLES).await?;
            assert_eq!(kept.len() as i64, SAMPLES, "every sample comes back");
        }
        lap(&mut took[0][0]);
        for tag in 1..=TAGS {
            let rows = sqlx::query("select at, bits, quality from plain where tag = $1 and at between $2 and $3 order by at")
                .bind(tag.cast_signed())
                .bind(from)
                .bind(to)
                .fetch_all(&mut sql)
                .await?;
            let sum: f64 = rows.iter().map(|r| r.get::<f64, _>("bits")).sum();
            assert!(sum > 0.0);
        }
        lap(&mut took[0][1]);
        for tag in 1..=TAGS {
            assert!(db.pixels(&[tag], from, to, 1000).await?[0].offset.len() >= 1000);
        }
        lap(&mut took[1][0]);
        for tag in 1..=TAGS {
            sqlx::query(
                "select at / $4 as pixel, min(bits), max(bits), (array_agg(bits order by at desc))[1] from plain
                         where tag = $1 and at between $2 and $3 group by 1 order by 1",
            )
            .bind(tag.cast_signed())
            .bind(from)
            .bind(to)
            .bind(to / 1000)
            .fetch_all(&mut sql)
            .await?;
        }
        lap(&mut took[1][1]);
        for tag in 1..=TAGS {
            assert_eq!(db.spans(&[tag], from, to, 24, to).await?[0].len(), 24);
        }
        lap(&mut took[2][0]);
        for tag in 1..=TAGS {
            sqlx::query(
                "select part, min(bits), max(bits), count(*), sum(bits * held) / sum(held) from
                           (select at / $4 as part, bits, lead(at, 1, $3) over (order by at) - at as held from plain
                            where tag = $1 and at between $2 and $3) p group by part order by part",
            )
            .bind(tag.cast_signed())
            .bind(from)
            .bind(to)
            .bind(to / 24)
            .fetch_all(&mut sql)
            .await?;
        }
        lap(&mut took[2][1]);
        if turn > 0 {
            for (sum, new) in seconds.iter_mut().flatten().zip(took.into_iter().flatten()) {
                *sum += new / 2.0;
            }
        }
    }
    for (name, [ours, plain]) in ["raw", "pixels", "spans"].into_iter().zip(seconds) {
        let name = format!("history: {name} of 8 tags with 86,400 samples, against plain SQL");
        figures.ratio(&name, rows / ours, rows / plain, "samples/s", None);
    }
    lookup::measure(figures, &db, &mut sql, TAGS, to, rows).await?;
    db.close().await;
    Ok(())
}
