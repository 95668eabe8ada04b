//! History: frames go in, samples and their statistics come out. Nothing outside this file knows how they lie there.

use crate::{Db, DbError, alarms, journal, people};
use futures_util::{StreamExt as _, TryStreamExt as _, stream};
use havrel_core::{
    TagNo,
    frame::Frame,
    history::{NotRecorded, Point, Recorded, end_at_gaps},
    quality::{Quality, Reason},
    sample::{Kind, Sample, Value},
    time::Nanos,
};
use sqlx::{FromRow as _, PgConnection, Row, postgres::PgRow};
use std::{
    cmp::Reverse,
    collections::HashMap,
    sync::{Mutex, MutexGuard, PoisonError},
};
use uuid::Uuid;

/// Most samples one question may read for one tag.
pub const MOST_SAMPLES: i64 = 500_000;

/// Tags that one question reads at the same time; recording needs the other connections of the pool.
const QUESTIONS: usize = 3;

/// A stored sample as it was.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    pub time: Nanos,
    pub value: Option<Value>,
    pub quality: Quality,
    pub flags: u8,
    /// The clock epoch in which it was stored.
    pub epoch: u32,
    /// The number of the node that recorded it; 0 where that was not kept yet.
    pub node: u16,
}

/// A span for which a node recorded nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unrecorded {
    /// The number of the node.
    pub node: u16,
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
        let mut tx = self.record.begin().await?;
        self.in_term(&mut tx).await?;
        let made = store(&mut tx, node, frames, &self.series).await?;
        tx.commit().await?;
        Ok(made)
    }

    /// Whether the database would take these entries: stores them and takes that back.
    ///
    /// # Errors
    /// As [`Db::append`].
    pub async fn try_out(&self, frame: &Frame) -> Result<(), DbError> {
        let mut tx = self.record.begin().await?;
        let stored = entries(&mut tx, (frame.node, 0), &[frame], &Mutex::default()).await;
        // A refused statement ends the transaction like the taking back does.
        tx.roll_back().await?;
        stored.map(drop)
    }

    /// How far a node has shipped.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn shipped(&self, node: Uuid) -> Result<Shipped, DbError> {
        let find = "select seq, arrived, epoch from shipped where node = $1";
        let row = sqlx::query(find).bind(node).fetch_optional(&self.record).await?;
        row.map_or(Ok(Shipped::default()), |r| {
            let (seq, epoch) = (r.try_get::<i64, _>("seq")?.unsigned_abs(), r.try_get::<i32, _>("epoch")?.unsigned_abs());
            Ok(Shipped { seq, arrived: r.try_get("arrived")?, epoch })
        })
    }

    /// The steps of clocks that touch `from..=to`, in the order of the epochs that they began: those within, and those after
    /// which a part of it was lived again.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn clock_steps(&self, from: Nanos, to: Nanos) -> Result<Vec<ClockEpoch>, DbError> {
        // An epoch ends where the next step of the same clock begins, by the time that it read before.
        let rows = sqlx::query(
            "select steps.epoch, at, by_ns, until, coalesce(no, 0::smallint) as no from (
                 select node, epoch, at, by_ns,
                     greatest(at, least(at - by_ns, lead(at - by_ns) over (partition by node order by epoch))) as until
                 from clock_step) steps left join shipped using (node)
             where at <= $2 and until >= $1 order by steps.epoch limit 1000",
        )
        .bind(from)
        .bind(to)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                let epoch = r.try_get::<i32, _>("epoch")?.unsigned_abs();
                let node = r.try_get::<i16, _>("no")?.unsigned_abs();
                Ok(ClockEpoch { node, epoch, at: r.try_get("at")?, by: r.try_get("by_ns")?, until: r.try_get("until")? })
            })
            .collect()
    }

    /// Samples of a tag in `from..=to` as they are, at most `limit`, newest last; `before` adds the one that holds at `from`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn raw(&self, tag: TagNo, from: Nanos, to: Nanos, before: bool, limit: i64) -> Result<Vec<Kept>, DbError> {
        let rows = sqlx::query(
            "(select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node from series s, lateral (
                 select * from sample p where p.series = s.id and p.at < $2 order by p.at desc, p.epoch desc limit 1) p
              where s.tag_no = $1 and $4 order by p.at desc, p.epoch desc limit 1)
             union all
             (select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node from sample p join series s on s.id = p.series
              where s.tag_no = $1 and p.at between $2 and $3 order by p.at, p.epoch limit $5)
             order by at, epoch",
        )
        .bind(tag.cast_signed())
        .bind(from)
        .bind(to)
        .bind(before)
        .bind(limit)
        .fetch_all(&self.heavy)
        .await?;
        rows.iter().map(kept).collect()
    }

    /// The newest that is stored of every tag: its last sample, with the last value where that one only tells a quality.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn newest(&self) -> Result<Vec<(TagNo, Kept)>, DbError> {
        let rows = sqlx::query(
            "select s.kind, p.at, p.bits, p.text, p.quality, p.flags, p.epoch, p.node, s.tag_no from series s, lateral (
                 select * from sample p where p.series = s.id order by p.at desc, p.epoch desc limit 1) p
             order by s.tag_no, p.epoch desc, p.at desc",
        )
        .fetch_all(&self.heavy)
        .await?;
        let mut all: Vec<(TagNo, Kept)> = Vec::new();
        for row in rows {
            let tag = row.try_get::<i32, _>("tag_no")?.cast_unsigned();
            let kept = kept(&row)?;
            match all.last_mut() {
                // The series of qualities without a value came first; the value is that of the newest other one.
                Some((of, last)) if *of == tag => {
                    if last.value.is_none() {
                        (last.value, last.time) = (kept.value, kept.time);
                    }
                }
                _ => all.push((tag, kept)),
            }
        }
        Ok(all)
    }

    /// The same as numbers for statistics and pictures, with the value that holds at `from` in front.
    ///
    /// # Errors
    /// As [`Db::points_of`].
    pub async fn points(&self, tag: TagNo, from: Nanos, to: Nanos) -> Result<Vec<Point>, DbError> {
        Ok(self.points_of(&[tag], from, to).await?.pop().unwrap_or_default())
    }

    /// [`Db::points`] of several tags, in their order. What concerns all of them is asked once.
    ///
    /// # Errors
    /// When the database does not answer, or one of them holds more than [`MOST_SAMPLES`] in the period.
    pub async fn points_of(&self, tags: &[TagNo], from: Nanos, to: Nanos) -> Result<Vec<Vec<Point>>, DbError> {
        // Of an hour that was lived twice, statistics and pictures show what came last; `raw` gives both.
        let steps = self.clock_steps(from, to).await?;
        let steps = &steps;
        let read = async |tag: TagNo| {
            let mut kept = self.raw(tag, from, to, true, MOST_SAMPLES + 1).await?;
            // A part of the period given as the whole would be a wrong answer.
            if kept.len() as i64 > MOST_SAMPLES {
                return Err(DbError::TooMuch(MOST_SAMPLES));
            }
            let again = |k: &Kept, s: &ClockEpoch| k.epoch < s.epoch && (s.at..s.until).contains(&k.time) && s.of(k.node);
            kept.retain(|k| !steps.iter().any(|s| again(k, s)));
            Ok(kept.iter().map(|k| (k.node, point(k))).collect::<Vec<Recorded>>())
        };
        let asked: Vec<_> = tags.iter().map(|&tag| read(tag)).collect();
        let all: Vec<Vec<Recorded>> = stream::iter(asked).buffered(QUESTIONS).try_collect().await?;
        let since = all.iter().filter_map(|points| points.first()).map(|(_, p)| p.time).min().unwrap_or(from);
        let gaps = self.unrecorded(since.min(from), to).await?;
        let gaps: Vec<NotRecorded> = gaps.iter().map(|g| NotRecorded { node: g.node, from: g.from, to: g.to }).collect();
        Ok(all.into_iter().map(|points| end_at_gaps(points, &gaps)).collect())
    }

    /// Spans within `from..=to` for which nothing was recorded.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn unrecorded(&self, from: Nanos, to: Nanos) -> Result<Vec<Unrecorded>, DbError> {
        let rows = sqlx::query(
            "select coalesce(no, 0::smallint) as no, from_ns, to_ns, reason from unrecorded left join shipped using (node)
             where to_ns >= $1 and from_ns <= $2 order by from_ns limit 1000",
        )
        .bind(from)
        .bind(to)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                let node = r.try_get::<i16, _>("no")?.unsigned_abs();
                Ok(Unrecorded { node, from: r.try_get("from_ns")?, to: r.try_get("to_ns")?, reason: r.try_get("reason")? })
            })
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

/// An epoch of a clock: it was set, and what it then read again is read from its epoch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ClockEpoch {
    /// The number of the node whose clock it is.
    pub node: u16,
    pub epoch: u32,
    /// The first instant, by the clock as it read since.
    pub at: Nanos,
    /// How far the clock was moved; negative: set back.
    pub by: Nanos,
    /// Until when instants were lived that an earlier epoch had lived before; `at` where there are none.
    pub until: Nanos,
}

impl ClockEpoch {
    /// Whether it concerns what a node recorded.
    fn of(&self, node: u16) -> bool {
        self.node == node || node == 0 || self.node == 0
    }
}

/// A sample for statistics and pictures.
fn point(kept: &Kept) -> Point {
    let value = kept.value.as_ref().filter(|_| !kept.quality.is_bad());
    let number = value.and_then(Value::exact).filter(|n| n.float().is_finite());
    let good = number.is_some() || matches!(value, Some(Value::Text(_)));
    Point { time: kept.time, value: number, good, by_hand: kept.quality.reason() == Reason::ByHand }
}

/// What a stored sample is read from: kind, time, value, text, quality, flags, epoch and node. The columns are read by position;
/// to find each of them by its name takes as long as the rest of reading a sample.
type StoredSample = (i16, Nanos, i64, Option<String>, i16, i16, i32, i16);

fn kept(row: &PgRow) -> Result<Kept, DbError> {
    let (kind, time, bits, text, quality, flags, epoch, node) = StoredSample::from_row(row)?;
    let kind = Kind::from_code(kind as u8).unwrap_or(Kind::Empty);
    Ok(Kept {
        time,
        value: value(kind, bits as u64, text),
        quality: Quality::from_bits(quality as u16).unwrap_or(Quality::of(Reason::WrongAnswer)),
        flags: flags as u8,
        epoch: epoch.unsigned_abs(),
        node: node.unsigned_abs(),
    })
}

/// How far a node has shipped: number, arrival and clock epoch of its last frame; zeros if none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Shipped {
    pub seq: u64,
    pub arrived: Nanos,
    pub epoch: u32,
}

/// Stores frames that were not stored before, and gives the series that were not known before.
async fn store(conn: &mut PgConnection, node: Uuid, frames: &[Frame], known: &Mutex<SeriesIds>) -> Result<SeriesIds, DbError> {
    let numbered: bool =
        sqlx::query_scalar("select exists (select from shipped where node = $1)").bind(node).fetch_one(&mut *conn).await?;
    if !numbered {
        let first = "insert into shipped (node, term, seq, arrived, no)
                     select $1, 0, 0, 0, coalesce(max(no), 0) + 1 from shipped on conflict (node) do nothing";
        sqlx::query(first).bind(node).execute(&mut *conn).await?;
    }
    let find = "select term, seq, no from shipped where node = $1 for update";
    let row = sqlx::query(find).bind(node).fetch_one(&mut *conn).await?;
    let stored = (row.try_get::<i32, _>("term")?, row.try_get::<i64, _>("seq")?);
    let fresh: Vec<&Frame> = frames.iter().filter(|f| (f.term.cast_signed(), f.seq.cast_signed()) > stored).collect();
    let Some(last) = fresh.last() else { return Ok(SeriesIds::new()) };
    let made = entries(conn, (node, row.try_get("no")?), &fresh, known).await?;
    sqlx::query("update shipped set term = $2, seq = $3, arrived = $4, epoch = $5 where node = $1")
        .bind(node)
        .bind(last.term.cast_signed())
        .bind(last.seq.cast_signed())
        .bind(last.arrived)
        .bind(last.epoch.cast_signed())
        .execute(&mut *conn)
        .await?;
    Ok(made)
}

/// Stores what frames of a node hold; the node is given with its number.
async fn entries(
    conn: &mut PgConnection,
    (node, no): (Uuid, i16),
    frames: &[&Frame],
    known: &Mutex<SeriesIds>,
) -> Result<SeriesIds, DbError> {
    let known = || known.lock().unwrap_or_else(PoisonError::into_inner);
    let missing = missing(&known(), frames);
    let made = series(conn, missing).await?;
    let rows = rows(&known(), &made, frames);
    samples(conn, no, frames, rows).await?;
    alarms::store(conn, frames).await?;
    for gap in frames.iter().flat_map(|f| &f.gaps) {
        sqlx::query("insert into unrecorded (node, from_ns, to_ns, reason) values ($1, $2, $3, $4) on conflict do nothing")
            .bind(node)
            .bind(gap.from)
            .bind(gap.to)
            .bind(&gap.reason)
            .execute(&mut *conn)
            .await?;
    }
    for frame in frames {
        for step in &frame.steps {
            sqlx::query("insert into clock_step (node, epoch, at, by_ns) values ($1, $2, $3, $4) on conflict do nothing")
                .bind(node)
                .bind(step.epoch.cast_signed())
                .bind(step.at)
                .bind(step.by)
                .execute(&mut *conn)
                .await?;
            people::move_sessions(conn, frame.arrived, step.by).await?;
        }
    }
    for note in frames.iter().flat_map(|f| &f.notes) {
        journal::put(conn, note).await?;
    }
    for keep in frames.iter().flat_map(|f| &f.keeps) {
        sqlx::query(
            "insert into kept_value (tag, at, value) values ($1, $2, $3::text::jsonb)
             on conflict (tag) do update set at = excluded.at, value = excluded.value",
        )
        .bind(keep.tag.cast_signed())
        .bind(keep.at)
        .bind(&keep.value)
        .execute(&mut *conn)
        .await?;
    }
    Ok(made)
}

/// The series of a tag and type.
pub(crate) type SeriesIds = HashMap<(TagNo, Kind), i32>;

/// A sample to be stored: its series, time and clock epoch, and which one of which frame it is.
type Place = (i32, Nanos, u32, u32, u32);

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
    let place = |(f, i, s): (u32, u32, Sample)| Some((id(&s)?, s.time, frames[f as usize].epoch, f, i));
    let mut rows: Vec<Place> = all(frames).filter_map(place).collect();
    // The newest of one time first, which is the one that stays.
    rows.sort_unstable_by_key(|&(series, at, epoch, f, i)| (series, at, epoch, Reverse((f, i))));
    rows.dedup_by_key(|row| (row.0, row.1, row.2));
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
    epoch: Vec<i32>,
    /// Of all of them.
    node: i16,
}

async fn samples(conn: &mut PgConnection, node: i16, frames: &[&Frame], rows: Vec<Place>) -> Result<(), sqlx::Error> {
    if rows.is_empty() {
        return Ok(());
    }
    let mut c = Columns { node, ..Columns::default() };
    for (series, at, _, f, i) in rows {
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
        c.epoch.push(frame.epoch.cast_signed());
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
    let mut bytes = Vec::with_capacity(c.at.len() * 78 + 32);
    bytes.extend(b"PGCOPY\n\xff\r\n\0");
    bytes.extend([0; 8]);
    for i in 0..c.at.len() {
        bytes.extend(10_i16.to_be_bytes());
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
        field(&mut bytes, &c.epoch[i].to_be_bytes());
        field(&mut bytes, &c.node.to_be_bytes());
    }
    bytes.extend((-1_i16).to_be_bytes());
    bytes
}

/// Stores rows by COPY, which is several times faster, unless one of them is there already, as a late or repeated sample is;
/// says whether they are stored.
async fn copied(conn: &mut PgConnection, c: &Columns) -> Result<bool, sqlx::Error> {
    sqlx::query("savepoint copied").execute(&mut *conn).await?;
    let into = "copy sample (series, at, bits, text, quality, flags, term, seq, epoch, node) from stdin (format binary)";
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

/// Stores rows one by one: of two with one time that of the later term, node and frame stays.
async fn upserted(conn: &mut PgConnection, c: Columns) -> Result<(), sqlx::Error> {
    sqlx::query(
        "insert into sample (series, at, bits, text, quality, flags, term, seq, epoch, node)
         select *, $10 from unnest($1::int[], $2::bigint[], $3::bigint[], $4::text[], $5::smallint[], $6::smallint[], $7::int[], $8::bigint[],
             $9::int[])
         on conflict (series, at, epoch) do update set bits = excluded.bits, text = excluded.text, quality = excluded.quality,
             flags = excluded.flags, term = excluded.term, seq = excluded.seq, node = excluded.node
         where (excluded.term, excluded.node, excluded.seq) > (sample.term, sample.node, sample.seq)",
    )
    .bind(c.series)
    .bind(c.at)
    .bind(c.bits)
    .bind(c.text)
    .bind(c.quality)
    .bind(c.flags)
    .bind(c.term)
    .bind(c.seq)
    .bind(c.epoch)
    .bind(c.node)
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
