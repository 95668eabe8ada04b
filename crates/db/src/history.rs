//! History: frames go in, samples and their statistics come out. Nothing outside this file knows how they lie there.

use crate::{Db, DbError};
use havrel_core::{
    TagNo,
    engine::usable_number,
    frame::Frame,
    history::Point,
    quality::{Quality, Reason},
    sample::{Kind, Sample, Value},
    time::Nanos,
};
use sqlx::{PgConnection, Row};
use std::{
    cmp::Reverse,
    collections::HashMap,
    sync::{MutexGuard, PoisonError},
};
use uuid::Uuid;

/// Most samples one question may read for one tag.
pub const MOST_SAMPLES: i64 = 500_000;

/// A stored sample as it was.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    pub time: Nanos,
    pub value: Option<Value>,
    pub quality: Quality,
    pub flags: u8,
}

/// A span for which a node recorded nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unrecorded {
    pub from: Nanos,
    pub to: Nanos,
    pub reason: String,
}

impl Db {
    /// Stores frames of one node in the order of their numbers. A frame that was stored before is passed over, so
    /// sending again after a lost answer is harmless.
    ///
    /// # Errors
    /// When the database does not answer; then none of them is stored.
    pub async fn append(&self, frames: &[Frame]) -> Result<(), DbError> {
        let stored = self.store(frames).await;
        match &stored {
            // Whatever went wrong, another server may answer next, which does not know what this one knew.
            Err(_) => self.series().clear(),
            Ok(fresh) => self.series().extend(fresh),
        }
        stored.map(drop)
    }

    fn series(&self) -> MutexGuard<'_, SeriesIds> {
        self.series.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Stores frames, and gives the series that were not known before.
    async fn store(&self, frames: &[Frame]) -> Result<SeriesIds, DbError> {
        let Some(node) = frames.first().map(|f| f.node) else { return Ok(SeriesIds::new()) };
        let mut tx = self.pool.begin().await?;
        sqlx::query("insert into shipped (node, term, seq, arrived) values ($1, 0, 0, 0) on conflict do nothing")
            .bind(node)
            .execute(&mut *tx)
            .await?;
        let row = sqlx::query("select term, seq from shipped where node = $1 for update").bind(node).fetch_one(&mut *tx).await?;
        let stored = (row.try_get::<i32, _>("term")?, row.try_get::<i64, _>("seq")?);
        let fresh: Vec<&Frame> = frames.iter().filter(|f| (f.term.cast_signed(), f.seq.cast_signed()) > stored).collect();
        let Some(last) = fresh.last() else { return Ok(SeriesIds::new()) };
        let missing = missing(&self.series(), &fresh);
        let made = series(&mut tx, missing).await?;
        let rows = rows(&self.series(), &made, &fresh);
        samples(&mut tx, &fresh, rows).await?;
        alarms(&mut tx, &fresh).await?;
        for gap in fresh.iter().flat_map(|f| &f.gaps) {
            sqlx::query("insert into unrecorded (node, from_ns, to_ns, reason) values ($1, $2, $3, $4) on conflict do nothing")
                .bind(node)
                .bind(gap.from)
                .bind(gap.to)
                .bind(&gap.reason)
                .execute(&mut *tx)
                .await?;
        }
        sqlx::query("update shipped set term = $2, seq = $3, arrived = $4 where node = $1")
            .bind(node)
            .bind(last.term.cast_signed())
            .bind(last.seq.cast_signed())
            .bind(last.arrived)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(made)
    }

    /// How far a node has shipped: number and arrival of its last frame; zeros if none.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn shipped(&self, node: Uuid) -> Result<(u64, Nanos), DbError> {
        let row = sqlx::query("select seq, arrived from shipped where node = $1").bind(node).fetch_optional(&self.pool).await?;
        row.map_or(Ok((0, 0)), |r| Ok((r.try_get::<i64, _>("seq")?.unsigned_abs(), r.try_get("arrived")?)))
    }

    /// Samples of a tag in `from..=to` as they are, at most `limit`, newest last; `before` adds the one that holds at `from`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn raw(&self, tag: TagNo, from: Nanos, to: Nanos, before: bool, limit: i64) -> Result<Vec<Kept>, DbError> {
        let rows = sqlx::query(
            "(select s.kind, p.at, p.bits, p.text, p.quality, p.flags from series s, lateral (
                 select * from sample p where p.series = s.id and p.at < $2 order by p.at desc limit 1) p
              where s.tag_no = $1 and $4 order by p.at desc limit 1)
             union all
             (select s.kind, p.at, p.bits, p.text, p.quality, p.flags from sample p join series s on s.id = p.series
              where s.tag_no = $1 and p.at between $2 and $3 order by p.at limit $5)
             order by at",
        )
        .bind(tag.cast_signed())
        .bind(from)
        .bind(to)
        .bind(before)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|row| {
                let kind = Kind::from_code(row.try_get::<i16, _>("kind")? as u8).unwrap_or(Kind::Empty);
                let bits = row.try_get::<i64, _>("bits")? as u64;
                let quality = Quality::from_bits(row.try_get::<i16, _>("quality")? as u16);
                Ok(Kept {
                    time: row.try_get("at")?,
                    value: value(kind, bits, row.try_get("text")?),
                    quality: quality.unwrap_or(Quality::of(Reason::WrongAnswer)),
                    flags: row.try_get::<i16, _>("flags")? as u8,
                })
            })
            .collect()
    }

    /// The same as numbers for statistics and pictures, with the value that holds at `from` in front.
    ///
    /// # Errors
    /// When the database does not answer, or the period holds more than [`MOST_SAMPLES`].
    pub async fn points(&self, tag: TagNo, from: Nanos, to: Nanos) -> Result<Vec<Point>, DbError> {
        let kept = self.raw(tag, from, to, true, MOST_SAMPLES + 1).await?;
        // A part of the period given as the whole would be a wrong answer.
        if kept.len() as i64 > MOST_SAMPLES {
            return Err(DbError::TooMuch(MOST_SAMPLES));
        }
        let number = |k: &Kept| match k.value.as_ref() {
            Some(Value::F64(v)) => usable_number(Kind::F64, v.to_bits(), k.quality),
            Some(v) => v.number().filter(|v| v.is_finite() && !k.quality.is_bad()),
            None => None,
        };
        let mut points: Vec<Point> = kept
            .iter()
            .map(|k| Point { time: k.time, value: number(k), by_hand: k.quality.reason() == Reason::ByHand })
            .collect();
        // Where nothing was recorded no value holds on; the first sample afterwards is always stored.
        let since = points.first().map_or(from, |p| p.time);
        for gap in self.unrecorded(since, to).await? {
            // A sample may lie within the span: the last one before a stop, or one that was loaded later.
            let at = points.partition_point(|p| p.time < gap.to);
            if let Some(last) = at.checked_sub(1).map(|i| points[i].time) {
                points.insert(at, Point { time: last.max(gap.from) + 1, value: None, by_hand: false });
            }
        }
        Ok(points)
    }

    /// Spans within `from..=to` for which nothing was recorded.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn unrecorded(&self, from: Nanos, to: Nanos) -> Result<Vec<Unrecorded>, DbError> {
        let rows = sqlx::query(
            "select from_ns, to_ns, reason from unrecorded where to_ns >= $1 and from_ns <= $2 order by from_ns limit 1000",
        )
        .bind(from)
        .bind(to)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| Ok(Unrecorded { from: r.try_get("from_ns")?, to: r.try_get("to_ns")?, reason: r.try_get("reason")? }))
            .collect()
    }
}

fn value(kind: Kind, bits: u64, text: Option<String>) -> Option<Value> {
    Some(match kind {
        Kind::Empty => return None,
        Kind::Bool => Value::Bool(bits != 0),
        Kind::I64 => Value::I64(bits as i64),
        Kind::U64 => Value::U64(bits),
        Kind::F32 => Value::F32(f32::from_bits(bits as u32)),
        Kind::F64 => Value::F64(f64::from_bits(bits)),
        Kind::Text => Value::Text(text.unwrap_or_default()),
    })
}

/// The series of a tag and type.
pub(crate) type SeriesIds = HashMap<(TagNo, Kind), i32>;

/// A sample to be stored: its series and time, and which one of which frame it is.
type Place = (i32, Nanos, u32, u32);

fn all<'a>(frames: &'a [&Frame]) -> impl Iterator<Item = (u32, u32, Sample)> + 'a {
    frames
        .iter()
        .enumerate()
        .flat_map(|(f, frame)| frame.batch.samples.iter().enumerate().map(move |(i, sample)| (f as u32, i as u32, *sample)))
}

fn missing(known: &SeriesIds, frames: &[&Frame]) -> Vec<(TagNo, Kind)> {
    all(frames).map(|(.., s)| (s.tag, s.kind)).filter(|key| !known.contains_key(key)).collect()
}

/// The samples in the order in which they lie, so that each page of the table is met once. The last of several with one time
/// wins: one statement must not touch a row twice.
fn rows(known: &SeriesIds, made: &SeriesIds, frames: &[&Frame]) -> Vec<Place> {
    let id = |s: &Sample| known.get(&(s.tag, s.kind)).or_else(|| made.get(&(s.tag, s.kind))).copied();
    let mut rows: Vec<Place> = all(frames).filter_map(|(f, i, s)| Some((id(&s)?, s.time, f, i))).collect();
    // The newest of one time first, which is the one that stays.
    rows.sort_unstable_by_key(|&(series, at, f, i)| (series, at, Reverse((f, i))));
    rows.dedup_by_key(|row| (row.0, row.1));
    rows
}

#[derive(Default)]
struct Columns {
    at: Vec<i64>,
    series: Vec<i32>,
    bits: Vec<i64>,
    text: Vec<Option<String>>,
    quality: Vec<i16>,
    flags: Vec<i16>,
    term: Vec<i32>,
    seq: Vec<i64>,
}

async fn samples(conn: &mut PgConnection, frames: &[&Frame], rows: Vec<Place>) -> Result<(), sqlx::Error> {
    if rows.is_empty() {
        return Ok(());
    }
    let mut c = Columns::default();
    for (series, at, f, i) in rows {
        let frame = frames[f as usize];
        let s = frame.batch.samples[i as usize];
        c.at.push(at);
        c.series.push(series);
        c.bits.push(if s.kind == Kind::Text { 0 } else { s.bits.cast_signed() });
        // PostgreSQL's text cannot hold the character 0.
        c.text.push((s.kind == Kind::Text).then(|| frame.batch.text_of(s).replace('\0', "")));
        c.quality.push(s.quality.bits().cast_signed());
        c.flags.push(s.flags.into());
        c.term.push(frame.term.cast_signed());
        c.seq.push(frame.seq.cast_signed());
    }
    if copied(conn, &c).await? {
        return Ok(());
    }
    upserted(conn, c).await
}

/// Rows as COPY's binary form wants them: a head, for each row the number of its fields and each with its length, and an end
/// (PostgreSQL 15 documentation, COPY, file formats).
fn binary(c: &Columns) -> Vec<u8> {
    fn field(into: &mut Vec<u8>, bytes: &[u8]) {
        into.extend((bytes.len() as i32).to_be_bytes());
        into.extend(bytes);
    }
    let mut bytes = Vec::with_capacity(c.at.len() * 72 + 32);
    bytes.extend(b"PGCOPY\n\xff\r\n\0");
    bytes.extend([0; 8]);
    for i in 0..c.at.len() {
        bytes.extend(8_i16.to_be_bytes());
        field(&mut bytes, &c.series[i].to_be_bytes());
        field(&mut bytes, &c.at[i].to_be_bytes());
        field(&mut bytes, &c.bits[i].to_be_bytes());
        match &c.text[i] {
            Some(text) => field(&mut bytes, text.as_bytes()),
            None => bytes.extend((-1_i32).to_be_bytes()),
        }
        field(&mut bytes, &c.quality[i].to_be_bytes());
        field(&mut bytes, &c.flags[i].to_be_bytes());
        field(&mut bytes, &c.term[i].to_be_bytes());
        field(&mut bytes, &c.seq[i].to_be_bytes());
    }
    bytes.extend((-1_i16).to_be_bytes());
    bytes
}

/// Stores rows by COPY, which is several times faster, unless one of them is there already, as a late or repeated sample is;
/// says whether they are stored.
async fn copied(conn: &mut PgConnection, c: &Columns) -> Result<bool, sqlx::Error> {
    sqlx::query("savepoint copied").execute(&mut *conn).await?;
    let into = "copy sample (series, at, bits, text, quality, flags, term, seq) from stdin (format binary)";
    let mut copy = conn.copy_in_raw(into).await?;
    copy.send(binary(c)).await?;
    let end = match copy.finish().await {
        Ok(_) => "release savepoint copied",
        Err(sqlx::Error::Database(error)) if error.is_unique_violation() => "rollback to savepoint copied",
        Err(error) => return Err(error),
    };
    sqlx::query(end).execute(conn).await?;
    Ok(end.starts_with("release"))
}

/// Stores rows one by one: of two with one time the later frame's stays.
async fn upserted(conn: &mut PgConnection, c: Columns) -> Result<(), sqlx::Error> {
    sqlx::query(
        "insert into sample (series, at, bits, text, quality, flags, term, seq)
         select * from unnest($1::int[], $2::bigint[], $3::bigint[], $4::text[], $5::smallint[], $6::smallint[], $7::int[], $8::bigint[])
         on conflict (series, at) do update set bits = excluded.bits, text = excluded.text, quality = excluded.quality,
             flags = excluded.flags, term = excluded.term, seq = excluded.seq
         where (excluded.term, excluded.seq) > (sample.term, sample.seq)",
    )
    .bind(c.series)
    .bind(c.at)
    .bind(c.bits)
    .bind(c.text)
    .bind(c.quality)
    .bind(c.flags)
    .bind(c.term)
    .bind(c.seq)
    .execute(conn)
    .await?;
    Ok(())
}

/// The series of tags and types, made where they are new.
async fn series(conn: &mut PgConnection, mut wanted: Vec<(TagNo, Kind)>) -> Result<SeriesIds, sqlx::Error> {
    if wanted.is_empty() {
        return Ok(SeriesIds::new());
    }
    wanted.sort_unstable_by_key(|(tag, kind)| (*tag, *kind as u8));
    wanted.dedup();
    let tags: Vec<i32> = wanted.iter().map(|(tag, _)| tag.cast_signed()).collect();
    let kinds: Vec<i16> = wanted.iter().map(|(_, kind)| *kind as i16).collect();
    let find = "select s.tag_no, s.kind, s.id from series s
                join unnest($1::int[], $2::smallint[]) as w(t, k) on s.tag_no = w.t and s.kind = w.k and s.aspect = 0";
    let mut rows = sqlx::query(find).bind(&tags).bind(&kinds).fetch_all(&mut *conn).await?;
    if rows.len() < wanted.len() {
        sqlx::query("insert into series (tag_no, kind) select * from unnest($1::int[], $2::smallint[]) on conflict do nothing")
            .bind(&tags)
            .bind(&kinds)
            .execute(&mut *conn)
            .await?;
        rows = sqlx::query(find).bind(&tags).bind(&kinds).fetch_all(conn).await?;
    }
    rows.into_iter()
        .map(|r| {
            let kind = Kind::from_code(r.try_get::<i16, _>("kind")? as u8).unwrap_or(Kind::Empty);
            Ok(((r.try_get::<i32, _>("tag_no")?.unsigned_abs(), kind), r.try_get("id")?))
        })
        .collect()
}

async fn alarms(conn: &mut PgConnection, frames: &[&Frame]) -> Result<(), sqlx::Error> {
    for frame in frames {
        for e in &frame.events {
            sqlx::query(
                "insert into alarm_event
                 (rule, sequence, kind, priority, occurred_at, decided_at, value, level, actor, comment, text, node)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) on conflict do nothing",
            )
            .bind(e.rule)
            .bind(e.sequence.cast_signed())
            .bind(e.kind as i16)
            .bind(i16::from(e.priority))
            .bind(e.occurred_at)
            .bind(e.decided_at)
            .bind(e.value)
            .bind(e.limit)
            .bind(&e.actor)
            .bind(&e.comment)
            .bind(&e.text)
            .bind(frame.node)
            .execute(&mut *conn)
            .await?;
        }
    }
    for s in frames.iter().flat_map(|f| &f.states) {
        sqlx::query(
            "insert into alarm_standing (rule, state, sequence, active, raised_at, returned_at, value, text, acknowledged_by)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
             on conflict (rule) do update set state = excluded.state, sequence = excluded.sequence, active = excluded.active,
                 raised_at = excluded.raised_at, returned_at = excluded.returned_at, value = excluded.value,
                 text = excluded.text, acknowledged_by = excluded.acknowledged_by
             where excluded.sequence >= alarm_standing.sequence",
        )
        .bind(s.rule)
        .bind(s.state as i16)
        .bind(s.sequence.cast_signed())
        .bind(s.active)
        .bind(s.raised_at)
        .bind(s.returned_at)
        .bind(s.value)
        .bind(&s.text)
        .bind(&s.acknowledged_by)
        .execute(&mut *conn)
        .await?;
    }
    Ok(())
}
